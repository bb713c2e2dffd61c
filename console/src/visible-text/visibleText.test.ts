import { describe, expect, it } from "vitest";

import { visibleChildren, visibleText } from "./visibleText";

describe("text of others", () => {
  it("shows marks that turn it around as escapes", () => {
    expect(visibleText("invoice\u202efdp.exe")).toBe("invoice\\u202efdp.exe");
    expect(visibleText("a\u2066b\u2069c\u200f")).toBe("a\\u2066b\\u2069c\\u200f");
  });

  it("leaves other letters as they are, of every script", () => {
    for (const text of ["brackwater", "שלום", "مرحبا", "naïve — ok", "👩‍🚀"]) {
      expect(visibleText(text)).toBe(text);
    }
  });

  it("looks into lists of children, and leaves what is no text", () => {
    const element = { type: "b" };
    expect(visibleChildren(["\u202ea", 7, element])).toEqual(["\\u202ea", 7, element]);
  });
});
