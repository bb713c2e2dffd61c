/** Where a run's time went: attempts as bars, and what they waited for. Times are milliseconds. */

import type { AttemptTimes, StepState } from "../../api/types";

export type WaitKind = "pool" | "worker" | "back_off" | "rest";

export interface Piece {
  from: number;
  to: number;
  /** The dye of what it shows. */
  dye: StepState;
  /** Of a wait, for what; of an attempt null. */
  wait: WaitKind | null;
  attempt: AttemptTimes;
  /** Of attempts beside each other, which line it is drawn on. */
  lane: number;
}

export interface Row {
  /** Of a step its address, of a worker its name. */
  name: string;
  pieces: Piece[];
  lanes: number;
}

const DYES: Record<string, StepState> = {
  done: "done",
  failed: "failed",
  refused: "failed",
  lost: "failed",
  cancelled: "cancelled",
  stopped: "paused",
  called_again: "resting",
  handed_back: "skipped",
};
const WAIT_DYES: Record<WaitKind, StepState> = {
  pool: "ready",
  worker: "waiting",
  back_off: "backing_off",
  rest: "resting",
};
/** What a step does between two attempts, by how the first ended; else it is ready at once. */
const BETWEEN: Record<string, WaitKind> = { failed: "back_off", called_again: "rest" };

/** One row a step, with what it waited for before each attempt, in the order of their begins. */
export function rowsBySteps(attempts: AttemptTimes[], now: number): Row[] {
  const rows = new Map<string, Row>();
  const before = new Map<string, AttemptTimes>();
  for (const attempt of attempts) {
    const row = rows.get(attempt.address) ?? { name: attempt.address, pieces: [], lanes: 1 };
    rows.set(attempt.address, row);
    row.pieces.push(...waitsOf(attempt, before.get(attempt.address), now));
    const ran = ranPiece(attempt, now);
    if (ran) row.pieces.push(ran);
    before.set(attempt.address, attempt);
  }
  return [...rows.values()];
}

/** One row a worker; what it ran side by side stands on lines below each other. */
export function rowsByWorkers(attempts: AttemptTimes[], now: number): Row[] {
  const rows = new Map<string, Row & { ends: number[] }>();
  const ran = attempts.flatMap((attempt) => ranPiece(attempt, now) ?? []);
  for (const piece of ran.sort((a, b) => a.from - b.from)) {
    const name = piece.attempt.worker;
    const row = rows.get(name) ?? { name, pieces: [], lanes: 0, ends: [] };
    rows.set(name, row);
    const free = row.ends.findIndex((end) => end <= piece.from);
    piece.lane = free < 0 ? row.ends.length : free;
    row.ends[piece.lane] = piece.to;
    row.pieces.push(piece);
    row.lanes = row.ends.length;
  }
  return [...rows.values()].sort((a, b) => (a.name < b.name ? -1 : 1));
}

function ranPiece(attempt: AttemptTimes, now: number): Piece | null {
  if (!attempt.begun_at) return null;
  const to = attempt.ended_at ? Date.parse(attempt.ended_at) : now;
  const dye = attempt.outcome ? (DYES[attempt.outcome] ?? "skipped") : "running";
  return { from: Date.parse(attempt.begun_at), to, dye, wait: null, attempt, lane: 0 };
}

function waitsOf(attempt: AttemptTimes, before: AttemptTimes | undefined, now: number): Piece[] {
  const found: Piece[] = [];
  const wait = (kind: WaitKind, from: number, to: number) => {
    if (to > from) found.push({ from, to, dye: WAIT_DYES[kind], wait: kind, attempt, lane: 0 });
  };
  const ready = Date.parse(attempt.ready_at);
  const kind = BETWEEN[before?.outcome ?? ""];
  if (kind && before?.ended_at && before.round === attempt.round) {
    wait(kind, Date.parse(before.ended_at), ready);
  }
  const begun = attempt.begun_at ?? attempt.ended_at;
  const end = begun ? Date.parse(begun) : now;
  const opened = attempt.pool_until ? Math.min(Date.parse(attempt.pool_until), end) : ready;
  wait("pool", ready, opened);
  wait("worker", opened, end);
  return found;
}

export interface Sums {
  ran: number;
  waits: Record<WaitKind, number>;
}

/** How much of all was spent running, and how much waiting for what, in seconds. */
export function sumsOf(rows: Row[]): Sums {
  const sums: Sums = { ran: 0, waits: { pool: 0, worker: 0, back_off: 0, rest: 0 } };
  for (const { pieces } of rows) {
    for (const { wait, from, to } of pieces) {
      if (wait) sums.waits[wait] += (to - from) / 1000;
      else sums.ran += (to - from) / 1000;
    }
  }
  return sums;
}

const STEPS = [
  ...[0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 30],
  ...[60, 120, 300, 600, 1_800, 3_600, 7_200, 21_600, 43_200, 86_400],
];

/** Where to put marks on an axis of some length, in seconds from its begin: at most ten or so. */
export function marksOf(seconds: number): number[] {
  const step = STEPS.find((one) => seconds / one <= 10) ?? Math.ceil(seconds / 864_000) * 86_400;
  return Array.from({ length: Math.floor(seconds / step) + 1 }, (_, index) => index * step);
}
