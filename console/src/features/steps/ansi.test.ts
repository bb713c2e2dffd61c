import { describe, expect, it } from "vitest";

import { piecesOf } from "./ansi";

describe("a line of a log", () => {
  it("has the dye nearest to its colour", () => {
    const line = "fit \u001b[1;31mfailed\u001b[0m at \u001b[92mM2\u001b[0m";

    expect(piecesOf(line).map(({ text, dye, strong }) => [text, dye, strong])).toEqual([
      ["fit ", "", false],
      ["failed", "failed", true],
      [" at ", "", false],
      ["M2", "done", false],
    ]);
  });

  it("is one piece where it has none", () => {
    expect(piecesOf("ebb <b>and</b> flow")).toEqual([
      { text: "ebb <b>and</b> flow", dye: "", strong: false, faint: false },
    ]);
  });
});
