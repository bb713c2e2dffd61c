import { expect, test } from "vitest";

import { unreadable, withoutUnreadable } from "./unreadableRecords";

test("a record that cannot be shown is taken out of its list and said once", () => {
  const answer = { runs: [{ number: 2 }, { number: 1, unreadable: "broken" }], next: null };

  expect(withoutUnreadable(answer)).toEqual({ runs: [{ number: 2 }], next: null });
  withoutUnreadable(answer);
  expect(unreadable()).toEqual(["number 1: broken"]);
});

test("other answers stay as they are", () => {
  for (const answer of [null, 5, [1], { a: [1, null] }]) {
    expect(withoutUnreadable(answer)).toEqual(answer);
  }
});
