import { describe, expect, it } from "vitest";

import type { TimesRow } from "../../api/types";
import { pathThrough } from "./pathThrough";

const rows = ["list", "coast", "coast/fetch", "send"].map((address) => ({ address }) as TimesRow);
const span = { from: 1_000, to: 2_000 };

describe("the longest path through the rows", () => {
  it("goes along its parts, and down between them", () => {
    const path = {
      parts: ["list", "coast", "send"],
      spans: [
        { from: 1_000, to: 1_100 },
        { from: 1_100, to: 1_800 },
        { from: 1_900, to: 2_000 },
      ],
      threads: new Set<string>(),
      seconds: 1,
    };
    const strokes = pathThrough(rows, path, span);
    expect(strokes[0]).toEqual([
      { x1: 0, y1: 0.5, x2: 0.1, y2: 0.5 },
      { x1: 0.1, y1: 0.5, x2: 0.1, y2: 1 },
    ]);
    expect(strokes[1]).toContainEqual({ x1: 0.1, y1: 0, x2: 0.1, y2: 0.5 });
    expect(strokes[1]).toContainEqual({ x1: 0.8, y1: 0.5, x2: 0.8, y2: 1 });
    expect(strokes[2]).toEqual([{ x1: 0.8, y1: 0, x2: 0.8, y2: 1 }]);
    expect(strokes[3]).toContainEqual({ x1: 0.9, y1: 0.5, x2: 1, y2: 0.5 });
  });

  it("is nothing where no path explains the time", () => {
    expect(pathThrough(rows, null, span).flat()).toEqual([]);
  });
});
