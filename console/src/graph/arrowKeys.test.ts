import { describe, expect, it } from "vitest";

import type { Part } from "../api/types";
import { layOut } from "./layout";
import { walk } from "./arrowKeys";

const step = (label: string): Part => ({
  kind: "step",
  label,
  address: label,
  task: "l/t",
  inputs: {},
  state: "waiting",
});
const plan: Part = {
  kind: "sequence",
  label: "",
  address: "",
  parts: [
    step("a"),
    {
      kind: "parallel",
      if_one_fails: "stop",
      label: "p",
      address: "p",
      parts: [step("b"), step("c")],
    },
    step("d"),
  ],
};

describe("the arrow keys", () => {
  const layout = layOut(plan);

  it("lead along the thread, and to the strands beside it", () => {
    expect(walk(layout, "a", "right")).toBe("b");
    expect(walk(layout, "b", "down")).toBe("c");
    expect(walk(layout, "c", "up")).toBe("b");
    expect(walk(layout, "c", "right")).toBe("d");
    expect(walk(layout, "d", "left")).toBe("b");
  });

  it("stop where nothing is", () => {
    expect(walk(layout, "d", "right")).toBeNull();
    expect(walk(layout, "a", "left")).toBeNull();
    expect(walk(layout, "c", "down")).toBeNull();
  });

  it("begin with the first step from anywhere else", () => {
    expect(walk(layout, "nowhere", "right")).toBe("a");
  });
});
