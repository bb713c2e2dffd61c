/**
 * Branches of a parallel that look alike are shown as one, with how many of them are how: what a
 * reader wants to know of sixty equal branches is not sixty boxes.
 */

import type { Counts, EachPart, Part, StepPart, StepState, Took } from "../api/types";

/** From so many on, branches that look alike are one frame. */
export const MANY_ALIKE = 8;

const STATES: StepState[] = [
  "waiting",
  "ready",
  "running",
  "backing_off",
  "resting",
  "paused",
  "done",
  "failed",
  "cancelled",
  "skipped",
];
/** What is said of several: the first of these that one of them is. */
const FIRST: StepState[] = [
  "running",
  "ready",
  "backing_off",
  "resting",
  "paused",
  "failed",
  "cancelled",
  "waiting",
  "skipped",
  "done",
];

/** A graph with branches that look alike folded into one, but for those that are opened. */
export function foldAlike(part: Part, opened: ReadonlySet<string>): Part {
  if (part.kind === "step") return part;
  if (part.kind === "each") {
    const inner = foldAlike(part.do, opened);
    return inner === part.do ? part : { ...part, do: inner };
  }
  const folded = part.parts.map((one) => foldAlike(one, opened));
  const parts = part.kind === "parallel" ? joinAlike(folded, opened) : folded;
  const same =
    parts.length === part.parts.length && parts.every((one, at) => one === part.parts[at]);
  return same ? part : { ...part, parts };
}

function joinAlike(branches: Part[], opened: ReadonlySet<string>): Part[] {
  if (branches.length < MANY_ALIKE || branches.some((one) => one.waits_for?.length))
    return branches;
  const groups = new Map<string, Part[]>();
  for (const one of branches) {
    const shape = shapeOf(one);
    const known = groups.get(shape);
    if (known) known.push(one);
    else groups.set(shape, [one]);
  }
  return [...groups.values()].flatMap((group) =>
    group.length < MANY_ALIKE || opened.has(nameOf(group)) ? group : [asOne(group)],
  );
}

/** Which group of opened branches a branch belongs to: known by the first of them. */
function nameOf(group: Part[]): string {
  return `${group[0]?.address ?? ""} and alike`;
}

function shapeOf(part: Part): string {
  const follows = Object.entries(part.follow_ups ?? {})
    .map(([name, one]) => `${name}${shapeOf(one)}`)
    .join();
  const facts = `${part.only_if ? "?" : ""}${follows}`;
  if (part.kind === "step") return `${part.task}${String(part.rules?.pool ?? "")}${facts}`;
  const inner = part.kind === "each" ? [part.do] : part.parts;
  return `${part.kind}(${inner.map(shapeOf).join()})${facts}`;
}

/** Several branches as one: steps as a pile of boxes, others as a frame around their parts. */
function asOne(group: Part[]): Part {
  const first = group[0];
  if (!first) throw new Error("a group has branches");
  const label = `${startOf(group.map((one) => one.label))}… ×${group.length}`;
  const alike = group.map((one) => one.address);
  const started = group.flatMap((one) => one.started_at ?? []).sort();
  const ended = group.flatMap((one) => one.ended_at ?? []).sort();
  const times = {
    started_at: started[0] ?? null,
    ended_at: ended.length === group.length ? (ended.at(-1) ?? null) : null,
  };
  if (first.kind === "step") {
    return { ...merge(group), ...times, label, address: nameOf(group), alike };
  }
  return {
    kind: "each",
    if_one_fails: "stop",
    label,
    address: nameOf(group),
    over: {},
    at_once: null,
    batch: null,
    may_fail: null,
    state: first.state && stateOf(group),
    counts: first.state && tally(group),
    ...times,
    do: merge(group),
    alike,
  };
}

/** What labels begin with, all of them; that of the first where that is too little. */
function startOf(labels: string[]): string {
  const first = labels[0] ?? "";
  const same = [...first].findIndex((letter, at) => labels.some((one) => one[at] !== letter));
  return same >= 2 ? first.slice(0, same) : `${first} `;
}

function stateOf(group: Part[]): StepState {
  return FIRST.find((state) => group.some((one) => one.state === state)) ?? "waiting";
}

function zeros(): Record<StepState, number> {
  return Object.fromEntries(STATES.map((state) => [state, 0])) as Record<StepState, number>;
}

function tally(group: Part[]): Counts {
  const counts = { total: 0, ...zeros() };
  for (const one of group) {
    const inner = one.state ? undefined : one.counts;
    if (inner) for (const state of STATES) counts[state] += inner[state];
    else counts[one.state ?? "waiting"] += 1;
    counts.total += inner?.total ?? 1;
  }
  return counts;
}

/** The parts at one place of several branches, as one. */
function merge(group: Part[]): Part {
  const first = group[0];
  if (!first) throw new Error("a group has branches");
  const address = `${first.address} of each`;
  const bare = { state: undefined, started_at: null, ended_at: null, follow_ups: undefined };
  switch (first.kind) {
    case "step": {
      const known = first.state ?? first.counts;
      if (!known) return { ...first, ...bare, address };
      const took = tookOf(group as StepPart[]);
      return { ...first, ...bare, address, counts: tally(group), took };
    }
    case "each": {
      const eaches = group as EachPart[];
      const counts = first.counts && sum(eaches.flatMap((one) => one.counts ?? []));
      return { ...first, ...bare, address, counts, do: merge(eaches.map((one) => one.do)) };
    }
    default: {
      const all = group as (typeof first)[];
      const parts = first.parts.map((_, at) => merge(all.flatMap((one) => one.parts[at] ?? [])));
      return { ...first, ...bare, address, parts };
    }
  }
}

function sum(all: Counts[]): Counts {
  const names = ["total", ...STATES] as const;
  const found = names.map((name) => [name, all.reduce((so, one) => so + one[name], 0)]);
  return Object.fromEntries(found) as Counts;
}

function tookOf(group: StepPart[]): Took | null {
  const seconds = group
    .flatMap(({ started_at, ended_at }) =>
      started_at && ended_at ? (Date.parse(ended_at) - Date.parse(started_at)) / 1000 : [],
    )
    .sort((a, b) => a - b);
  const middle = seconds[Math.floor((seconds.length - 1) / 2)];
  const longest = seconds.at(-1);
  if (middle === undefined || longest === undefined) return null;
  return { median: middle, longest, ended: seconds.length, histogram: [] };
}
