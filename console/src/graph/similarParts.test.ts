import { describe, expect, it } from "vitest";

import type { Part, StepState } from "../api/types";
import { foldAlike } from "./similarParts";

const step = (label: string, state: StepState, task = "l/t"): Part => ({
  kind: "step",
  label,
  address: `p/${label}`,
  task,
  inputs: {},
  state,
  started_at: "2026-01-01T00:00:00Z",
  ended_at: state === "done" ? "2026-01-01T00:00:03Z" : null,
});
const parallel = (...parts: Part[]): Part => ({
  kind: "parallel",
  if_one_fails: "stop",
  label: "p",
  address: "p",
  state: "running",
  parts,
});
const many = (count: number, make: (at: number) => Part) =>
  Array.from({ length: count }, (_, at) => make(at));
const NONE = new Set<string>();

describe("branches that look alike", () => {
  it("are one pile with how many are how, and how long they took", () => {
    const states: StepState[] = ["done", "done", "running", "failed"];
    const graph = parallel(...many(12, (at) => step(`s${at}`, states[at % 4] ?? "waiting")));
    const folded = foldAlike(graph, NONE);
    const pile = folded.kind === "parallel" ? folded.parts[0] : undefined;

    expect(folded.kind === "parallel" && folded.parts.length).toBe(1);
    expect(pile?.label).toBe("s0 … ×12");
    expect(pile?.alike?.length).toBe(12);
    expect(pile?.counts).toMatchObject({ total: 12, done: 6, running: 3, failed: 3 });
    expect(pile?.kind === "step" && pile.took).toMatchObject({ median: 3, longest: 3, ended: 6 });
  });

  it("stay as they are where they are few, differ, wait for each other or are opened", () => {
    const few = parallel(...many(5, (at) => step(`s${at}`, "done")));
    const other = parallel(...many(12, (at) => step(`s${at}`, "done", `l/t${at}`)));
    const waits = parallel(
      ...many(12, (at) => ({ ...step(`s${at}`, "done"), waits_for: at ? ["s0"] : [] })),
    );
    const alike = parallel(...many(12, (at) => step(`s${at}`, "done")));

    for (const graph of [few, other, waits]) expect(foldAlike(graph, NONE)).toBe(graph);
    expect(foldAlike(alike, new Set(["p/s0 and alike"]))).toBe(alike);
  });

  it("of several steps are a frame around each of them", () => {
    const branch = (at: number): Part => ({
      kind: "sequence",
      label: `b${at}`,
      address: `p/b${at}`,
      state: at < 4 ? "done" : "running",
      parts: [step("a", "done"), step("b", at < 4 ? "done" : "running", "l/u")],
    });
    const folded = foldAlike(parallel(...many(10, branch)), NONE);
    const frame = folded.kind === "parallel" ? folded.parts[0] : undefined;
    if (frame?.kind !== "each" || frame.do.kind !== "sequence") throw new Error("no frame");

    expect(frame.counts).toMatchObject({ total: 10, done: 4, running: 6 });
    expect(frame.do.parts.map((one) => one.counts?.done)).toEqual([10, 4]);
    expect(frame.state).toBe("running");
  });
});
