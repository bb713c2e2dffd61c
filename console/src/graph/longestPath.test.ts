import { describe, expect, it } from "vitest";

import type { Part } from "../api/types";
import { foldAlike } from "./similarParts";
import { layOut } from "./layout";
import { longestPath, tellingPath } from "./longestPath";

const at = (second: number) => new Date(second * 1000).toISOString();
const step = (label: string, from?: number, to?: number): Part => ({
  kind: "step",
  label,
  address: label,
  task: "l/t",
  inputs: {},
  state: to === undefined ? "waiting" : "done",
  started_at: from === undefined ? null : at(from),
  ended_at: to === undefined ? null : at(to),
});
const sequence = (...parts: Part[]): Part => ({ kind: "sequence", label: "", address: "", parts });

describe("the longest path", () => {
  it("goes through the branch that ended last", () => {
    const parallel: Part = {
      kind: "parallel",
      if_one_fails: "stop",
      label: "p",
      address: "p",
      parts: [step("quick", 2, 3), step("slow", 2, 9)],
    };
    const path = longestPath(layOut(sequence(step("a", 0, 2), parallel, step("z", 9, 11))));

    expect(path?.parts).toEqual(["a", "slow", "z"]);
    expect(path?.seconds).toBe(11);
    expect([...(path?.threads ?? [])]).toEqual(["a→slow", "slow→z"]);
  });

  it("takes an each as a whole", () => {
    const each: Part = {
      kind: "each",
      if_one_fails: "stop",
      label: "e",
      address: "e",
      over: {},
      at_once: null,
      batch: null,
      may_fail: null,
      state: "done",
      started_at: at(1),
      ended_at: at(6),
      do: sequence(step("x"), step("y")),
    };
    const path = longestPath(layOut(sequence(step("a", 0, 1), each, step("z", 6, 7))));

    expect(path?.parts).toEqual(["a", "e", "z"]);
  });

  it("is told where it took most of the time, beside something else", () => {
    const parallel = (...parts: Part[]): Part => ({
      kind: "parallel",
      if_one_fails: "stop",
      label: "p",
      address: "p",
      parts,
    });
    const many = Array.from({ length: 8 }, (_, at) => step(`b-${at}`, 1, 2 + at));
    const piled = foldAlike(sequence(step("a", 0, 1), parallel(...many)), new Set());
    expect(tellingPath(layOut(piled))).toBeNull(); // one line of boxes, and nothing beside it
    const two = parallel(step("quick", 1, 2), step("slow", 1, 9));
    const told = tellingPath(layOut(sequence(step("a", 0, 1), two)));
    expect(told?.parts).toEqual(["a", "slow"]);
    const late = parallel(step("early", 0, 7), step("late", 9, 10));
    expect(tellingPath(layOut(late))).toBeNull(); // one of ten seconds
  });

  it("is none where nothing has ended", () => {
    expect(longestPath(layOut(sequence(step("a"))))).toBeNull();
  });
});
