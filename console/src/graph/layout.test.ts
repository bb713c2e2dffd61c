import { describe, expect, it } from "vitest";

import type { Part } from "../api/types";
import { focusOf, GAP, layOut, STEP_WIDTH } from "./layout";

const step = (address: string): Part => ({
  kind: "step",
  label: address,
  address,
  task: "t",
  inputs: {},
  state: "waiting",
});
const sequence = (...parts: Part[]): Part => ({
  kind: "sequence",
  label: "s",
  address: "s",
  state: "waiting",
  parts,
});

const parallel = (label: string, ...parts: Part[]): Part => ({
  kind: "parallel",
  if_one_fails: "stop",
  label,
  address: label,
  parts,
});
const each = (label: string, inner: Part): Part => ({
  kind: "each",
  if_one_fails: "stop",
  label,
  address: label,
  over: { param: "list" },
  at_once: null,
  batch: null,
  may_fail: null,
  state: "running",
  do: inner,
});
const placed = (part: Part) =>
  new Map(layOut(part).steps.map((one) => [one.step.address, one] as const));

describe("the layout", () => {
  it("puts the branches of a parallel below each other, and joins them", () => {
    const plan = sequence(step("a"), parallel("p", step("b"), step("c")), step("d"));
    const at = placed(plan);

    expect(at.get("b")?.x).toBe(at.get("c")?.x);
    expect(at.get("c")?.y).toBeGreaterThan((at.get("b")?.y ?? 0) + (at.get("b")?.height ?? 0));
    expect(layOut(plan).threads).toEqual([
      { from: "a", to: "b" },
      { from: "a", to: "c" },
      { from: "b", to: "d" },
      { from: "c", to: "d" },
    ]);
  });

  it("puts a branch that waits to the right, on the strand of what it waits for", () => {
    const join = { ...step("c"), waits_for: ["a", "b"] } as Part;
    const plan = parallel("p", join, step("a"), step("b"));
    const at = placed(plan);

    expect(at.get("c")?.x).toBe(STEP_WIDTH + GAP);
    expect(at.get("c")?.y).toBe(at.get("a")?.y);
    expect(layOut(plan).threads).toEqual([
      { from: "a", to: "c" },
      { from: "b", to: "c" },
    ]);
  });

  it("frames an each and says of its steps whose items they are", () => {
    const inner = each("months", step("fetch"));
    const layout = layOut(each("harbours", sequence(inner, step("fit"))));

    expect(layout.frames.map((one) => one.caption)).toEqual(["harbours", "months"]);
    expect(layout.steps.map(({ bundle }) => bundle?.label)).toEqual(["harbours", "harbours"]);
    for (const { x, width } of layout.steps) {
      expect(x).toBeGreaterThan(0);
      expect(x + width).toBeLessThan(layout.width);
    }
  });

  it("shows what follows below, unless it ended without it", () => {
    const tell = { ...sequence(step("tell")), begun: false } as Part;
    const going = { ...step("a"), follow_ups: { on_failure: tell } } as Part;
    const layout = layOut(going);

    expect(layout.frames.map((one) => one.caption)).toEqual(["on failure"]);
    expect(layout.steps[1]?.y).toBeGreaterThan(layout.steps[0]?.height ?? 0);
    expect(layOut({ ...going, ended_at: "2027-01-01T00:00:00Z" } as Part).frames).toEqual([]);
  });

  it("puts a sequence on one line, from left to right", () => {
    const { steps, width } = layOut(sequence(step("a"), step("b"), step("c")));

    expect(steps.map((one) => one.x)).toEqual([0, STEP_WIDTH + GAP, 2 * (STEP_WIDTH + GAP)]);
    expect(new Set(steps.map((one) => one.y))).toEqual(new Set([0]));
    expect(width).toBe(3 * STEP_WIDTH + 2 * GAP);
  });

  it("threads each part to the one behind it, through nested sequences", () => {
    const { threads } = layOut(sequence(step("a"), sequence(step("b"), step("c")), step("d")));

    expect(threads).toEqual(
      expect.arrayContaining([
        { from: "a", to: "b" },
        { from: "b", to: "c" },
        { from: "c", to: "d" },
      ]),
    );
    expect(threads).toHaveLength(3);
  });

  it("does not depend on states", () => {
    const waiting = layOut(sequence(step("a"), step("b")));
    const moving = layOut(sequence({ ...step("a"), state: "done" } as Part, step("b")));

    expect(moving.steps.map(({ x, y }) => [x, y])).toEqual(waiting.steps.map(({ x, y }) => [x, y]));
  });

  it("looks first at what moves", () => {
    const parts = Array.from({ length: 100 }, (_, i) => step(`${i}`));
    parts[50] = { ...step("50"), state: "running" } as Part;
    const layout = layOut(sequence(...parts));

    expect(focusOf(layout)).toBe("50");
    expect(focusOf(layOut(sequence(step("a"), step("b"))))).toBe("a");
  });

  it("goes on in the next row where a sequence is too wide", () => {
    const at = placed(sequence(...Array.from({ length: 20 }, (_, n) => step(`s${n}`))));
    const rows = new Set([...at.values()].map(({ y }) => y));

    expect(rows.size).toBe(3);
    expect(at.get("s8")?.x).toBe(0);
    expect(at.get("s7")?.y).toBe(at.get("s0")?.y);
  });

  it("puts many branches into columns, none over another", () => {
    const steps = layOut(
      parallel("p", ...Array.from({ length: 30 }, (_, n) => step(`s${n}`))),
    ).steps;

    expect(new Set(steps.map(({ x }) => x)).size).toBeGreaterThan(2);
    expect(new Set(steps.map(({ x, y }) => `${x} ${y}`)).size).toBe(30);
  });

  it("lays out 2,000 steps, nested fifty deep", () => {
    let plan: Part = step("end");
    for (let depth = 0; depth < 50; depth += 1) {
      plan = sequence(...Array.from({ length: 40 }, (_, i) => step(`${depth}.${i}`)), plan);
    }

    expect(layOut(plan).steps).toHaveLength(2_001);
  });
});
