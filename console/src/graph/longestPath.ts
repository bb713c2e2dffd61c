/**
 * The longest path through what has ended: the chain of steps and eaches because of which the run
 * took as long as it did. From what ended last it goes back, always to that of its predecessors
 * which ended last. Linear in the size of the graph.
 */

import type { EachPart, StepPart } from "../api/types";
import { threadId, type Layout } from "./layout";

export interface Path {
  /** Addresses of the steps and eaches on it, first to last. */
  parts: string[];
  /** When each of them began and ended, in milliseconds since 1970 UTC. */
  spans: Span[];
  /** Ids of the threads on it. */
  threads: Set<string>;
  /** From the begin of its first to the end of its last. */
  seconds: number;
}

interface Span {
  from: number;
  to: number;
}

/** The longest path; null where nothing has ended yet. */
export function longestPath({ steps, threads }: Layout): Path | null {
  const owner = new Map<string, string>();
  const spans = new Map<string, Span>();
  for (const { step, bundle } of steps) {
    const part = bundle ?? step;
    owner.set(step.address, part.address);
    const span = spanOf(part);
    if (span) spans.set(part.address, span);
  }
  const before = new Map<string, Set<string>>();
  for (const { from, to } of threads) {
    const [a, b] = [owner.get(from), owner.get(to)];
    if (a === undefined || b === undefined || a === b) continue;
    const known = before.get(b);
    if (known) known.add(a);
    else before.set(b, new Set([a]));
  }
  const latest = (some: Iterable<string>) =>
    [...some].reduce<string | null>((found, one) => {
      const span = spans.get(one);
      if (!span) return found;
      return found === null || span.to > (spans.get(found)?.to ?? 0) ? one : found;
    }, null);
  const last = latest(spans.keys());
  if (last === null) return null;
  const parts: string[] = [];
  const seen = new Set<string>();
  for (let one: string | null = last; one !== null && !seen.has(one);) {
    parts.unshift(one);
    seen.add(one);
    one = latest(before.get(one) ?? []);
  }
  const pairs = new Set(parts.slice(1).map((one, index) => `${parts[index]}\n${one}`));
  const on = threads.filter(({ from, to }) => pairs.has(`${owner.get(from)}\n${owner.get(to)}`));
  const first = spans.get(parts[0] ?? "");
  const end = spans.get(last);
  if (!first || !end) return null;
  return {
    parts,
    spans: parts.flatMap((one) => spans.get(one) ?? []),
    threads: new Set(on.map(threadId)),
    seconds: (end.to - first.from) / 1000,
  };
}

/** The longest path where it explains the time: something ended beside it, and it took most of it. */
export function tellingPath(layout: Layout): Path | null {
  const path = longestPath(layout);
  const ended = new Map<string, Span>();
  for (const { step, bundle } of layout.steps) {
    const span = spanOf(bundle ?? step);
    if (span) ended.set((bundle ?? step).address, span);
  }
  if (!path || ended.size <= path.parts.length) return null;
  const spans = [...ended.values()];
  const from = spans.reduce((least, one) => Math.min(least, one.from), Infinity);
  const to = spans.reduce((most, one) => Math.max(most, one.to), 0);
  return 2 * 1000 * path.seconds >= to - from ? path : null;
}

function spanOf({ state, started_at, ended_at }: StepPart | EachPart): Span | null {
  if (!started_at || !ended_at || state === "skipped") return null;
  return { from: Date.parse(started_at), to: Date.parse(ended_at) };
}
