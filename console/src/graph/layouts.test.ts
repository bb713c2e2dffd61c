import { describe, expect, it } from "vitest";

import layouts from "../../../tests/drawing/layouts.json";
import type { Part } from "../api/types";
import { layOut } from "./layout";

/** The rows of a layout from the top, each from the left. */
function rowsOf(part: Part): string[][] {
  const rows = new Map<number, { x: number; address: string }[]>();
  for (const { x, y, height, step } of layOut(part, Infinity).steps) {
    const middle = Math.round((y + height / 2) * 1_000) / 1_000;
    rows.set(middle, [...(rows.get(middle) ?? []), { x, address: step.address }]);
  }
  return [...rows]
    .sort(([one], [other]) => one - other)
    .map(([, row]) => row.sort((one, other) => one.x - other.x).map(({ address }) => address));
}

describe("the layouts of the console and of `yarnloom graph`", () => {
  it.each(layouts)("have the same rows, order and threads", ({ view, rows, threads }) => {
    const part = view as unknown as Part;
    const pairs = layOut(part, Infinity).threads.map(({ from, to }) => [from, to]);

    expect(rowsOf(part)).toEqual(rows);
    expect(pairs.map(String).sort()).toEqual(threads.map(String).sort());
  });
});
