import { describe, expect, it } from "vitest";

import { filesIn, sizeText } from "./files";

const SHA = "ab".repeat(32);
const OTHER = "cd".repeat(32);

describe("filesIn", () => {
  it("finds files and lists wherever they stand, each once", () => {
    const file = { sha256: SHA, name: "tides.csv", media_type: "text/csv", size: 9 };
    const list = { list: OTHER, count: 3, size: 20 };
    expect(filesIn({ pages: [{ table: file }, file], all: list, other: "text" })).toEqual([
      { sha256: SHA, name: "tides.csv", size: 9, count: null },
      { sha256: OTHER, name: "all.jsonl", size: 20, count: 3 },
    ]);
  });

  it("takes rows of a file as the file, with how many they are", () => {
    const rows = { sha256: SHA, name: "c.csv", media_type: "text/csv", size: 9 };
    expect(filesIn({ ...rows, list: OTHER, count: 4 })).toEqual([
      { sha256: SHA, name: "c.csv", size: 9, count: 4 },
    ]);
  });

  it("finds none in what only looks like one", () => {
    expect(filesIn({ sha256: SHA, other: null, list: [1, 2] })).toEqual([]);
  });
});

describe("sizeText", () => {
  it("has one unit that fits", () => {
    expect([5, 2048, 150_000, 3 * 1024 ** 3].map(sizeText)).toEqual([
      "5 bytes",
      "2 KB",
      "146 KB",
      "3 GB",
    ]);
  });
});
