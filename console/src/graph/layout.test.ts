import { describe, expect, it } from "vitest";

import type { Part } from "../api/types";
import { focusOf, GAP, layOut, STEP_WIDTH } from "./layout";

const step = (address: string): Part => ({
  kind: "step",
  label: address,
  address,
  task: "t",
  state: "waiting",
});
const sequence = (...parts: Part[]): Part => ({
  kind: "sequence",
  label: "s",
  address: "s",
  state: "waiting",
  parts,
});

describe("the layout", () => {
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

    expect(focusOf(layout, 5)).toEqual(["48", "49", "50", "51", "52"]);
    expect(focusOf(layOut(sequence(step("a"), step("b"))), 5)).toEqual(["a", "b"]);
  });

  it("lays out 2,000 steps, nested fifty deep", () => {
    let plan: Part = step("end");
    for (let depth = 0; depth < 50; depth += 1) {
      plan = sequence(...Array.from({ length: 40 }, (_, i) => step(`${depth}.${i}`)), plan);
    }

    expect(layOut(plan).steps).toHaveLength(2_001);
  });
});
