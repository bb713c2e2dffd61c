import { describe, expect, it } from "vitest";

import type { AttemptTimes } from "../../api/types";
import { marksOf, rowsBySteps, rowsByWorkers, sumsOf } from "./attemptBars";

const at = (second: number) => new Date(second * 1000).toISOString();
let id = 0;
const attempt = (
  address: string,
  times: [number, number, number | null],
  more: Partial<AttemptTimes> = {},
): AttemptTimes => ({
  id: (id += 1),
  address,
  task: "l/t",
  number: 1,
  round: 1,
  outcome: times[2] === null ? null : "done",
  worker: "w",
  pool: null,
  ready_at: at(times[0]),
  pool_until: null,
  handed_at: at(times[1]),
  begun_at: at(times[1]),
  ended_at: times[2] === null ? null : at(times[2]),
  guess: false,
  ...more,
});

describe("bars", () => {
  it("tell what a step waited for", () => {
    const rows = rowsBySteps(
      [
        attempt("a", [0, 5, 7], { pool: "p", pool_until: at(3), outcome: "failed" }),
        attempt("a", [10, 10, null], { number: 2 }),
      ],
      12_000,
    );

    expect(rows).toHaveLength(1);
    expect(rows[0]?.pieces.map(({ wait, from, to }) => [wait, from / 1000, to / 1000])).toEqual([
      ["pool", 0, 3],
      ["worker", 3, 5],
      [null, 5, 7],
      ["back_off", 7, 10],
      [null, 10, 12],
    ]);
    expect(sumsOf(rows)).toEqual({ ran: 4, waits: { pool: 3, worker: 2, back_off: 3, rest: 0 } });
  });

  it("stand on lines of their own where a worker ran them side by side", () => {
    const some = [attempt("a", [0, 0, 4]), attempt("b", [0, 1, 3]), attempt("c", [0, 3, 5])];
    const rows = rowsByWorkers([...some, attempt("d", [0, 2, 3], { worker: "v" })], 9_000);

    expect(rows.map(({ name, lanes }) => [name, lanes])).toEqual([
      ["v", 1],
      ["w", 2],
    ]);
    expect(rows[1]?.pieces.map(({ lane }) => lane)).toEqual([0, 1, 1]);
  });

  it("have few marks on their axis, however long it is", () => {
    for (const seconds of [0.004, 0.5, 7, 90, 4_000, 900_000]) {
      const marks = marksOf(seconds);
      expect(marks.length).toBeGreaterThan(1);
      expect(marks.length).toBeLessThan(12);
    }
  });
});
