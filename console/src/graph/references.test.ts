import { expect, test } from "vitest";

import { poolsText, referenceText } from "./references";

test("references and conditions are written as sentences", () => {
  const error = { output: "fit", fields: ["error"] };
  const low = { compare: [error, "<", { constant: 0.01 }] };
  const words = [
    [{ param: "year" }, "param year"],
    [low, "fit's error < 0.01"],
    [{ all: [low, { not: { param: "dry" } }] }, "fit's error < 0.01 and not (param dry)"],
    [
      { compare: [{ param: "tide" }, "in", { constant: ["neap"] }] },
      'param tide is one of ["neap"]',
    ],
    [{ is_null: { item: "code" } }, "item's code is null"],
    [{ list: [{ item: true }, { constant: 1 }] }, "[the item, 1]"],
    [{ object: { at: { planned_at: true } } }, "{at: the planned time}"],
  ] as const;
  for (const [raw, said] of words)
    expect(referenceText(JSON.parse(JSON.stringify(raw)))).toBe(said);
});

test("pools are named with their weights", () => {
  expect(poolsText(undefined)).toBe("");
  expect(poolsText({ pool: "oven" })).toBe("oven");
  const pools = [
    { pool: "oven", weight: 2 },
    { pool: "link", weight: 1 },
  ];
  expect(poolsText({ pools })).toBe("2 of oven, link");
});
