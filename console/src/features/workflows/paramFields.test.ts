import { describe, expect, it } from "vitest";

import { fieldsOf, paramsOf } from "./paramFields";

const schema = {
  type: "object",
  required: ["harbour", "year"],
  properties: {
    harbour: { type: "string", description: "Where" },
    year: { type: "integer", default: 2027 },
    tide: { $ref: "#/$defs/Tide" },
    note: { anyOf: [{ type: "string" }, { type: "null" }], default: null },
    options: { type: "object" },
  },
  $defs: { Tide: { type: "string", enum: ["neap", "spring"] } },
};

describe("the fields of params", () => {
  it("have a kind each, through references and nullables", () => {
    const kinds = fieldsOf(schema).map((field) => field.kind);

    expect(kinds).toEqual(["text", "integer", "choice", "text", "json"]);
  });

  it("begin with the defaults", () => {
    const initial = Object.fromEntries(fieldsOf(schema).map((one) => [one.name, one.initial]));

    expect(initial).toMatchObject({ harbour: "", year: "2027", note: "" });
  });

  it("become params: numbers as numbers, empty ones left out", () => {
    const filled = { harbour: "0042", year: "2028", tide: "neap", note: "", options: '{"a": 1}' };

    expect(paramsOf(fieldsOf(schema), filled)).toEqual({
      harbour: "0042",
      year: 2028,
      tide: "neap",
      options: { a: 1 },
    });
  });

  it("pass on what is no number, so that the service can say what it expected", () => {
    const params = paramsOf(fieldsOf(schema), { harbour: "x", year: "soon" });

    expect(params.year).toBe("soon");
  });
});
