/**
 * Where the parts of a graph stand: a fold over the plan, in two passes, linear in its size.
 *
 * Time runs left to right. A sequence is one thread; a parallel splits it into strands, one below
 * the other, and a branch that waits for others stands to their right, on the strand of one of them
 * where that is free. An each is a frame around what it repeats, as are the branches of a choose
 * and what runs instead of a part; follow-ups stand below what they follow. Positions depend on the plan alone, never on states, so nothing moves while a run does.
 * `src/yarnloom/drawing/layout.py` draws by the same rules; `tests/drawing/layouts.json`
 * holds both to the same rows, order and threads.
 */

import type { EachPart, Part, StepPart, StepState } from "../api/types";
import { dyeOfCounts } from "./dyes";

export const STEP_WIDTH = 190;
export const STEP_HEIGHT = 96;
export const GAP = 40;
const ROW_GAP = 22;
const CAPTION = 22;
const FRAME = 16;
const FRAME_TOP = 78;
export const FOLLOW_TOP = 34;
/** A sequence that is wider goes on in a row below, as text does. */
const ROW_WIDTH = 1_920;
const BETWEEN_ROWS = 44;
/** So many branches stand below each other before they stand in columns. */
const COLUMN = 6;
/** How much wider than high a parallel in columns is to be. */
const BREADTH = 2;

export interface Place {
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface PlacedStep extends Place {
  step: StepPart;
  /** The each around it whose items are folded; null where the step has a state of its own. */
  bundle: EachPart | null;
}

/** A frame around parts; or only the caption of a parallel or choose. */
export interface PlacedFrame extends Place {
  kind: "each" | "follow-up" | "branch" | "caption";
  part: Part;
  caption: string;
}

/** A piece of thread between two steps, by their addresses. */
export interface Thread {
  from: string;
  to: string;
}

/** What a thread is known by. */
export function threadId({ from, to }: Thread): string {
  return `${from}→${to}`;
}

export interface Layout {
  steps: PlacedStep[];
  frames: PlacedFrame[];
  threads: Thread[];
  width: number;
  height: number;
}

const UNDER_WAY = new Set(["running", "ready", "backing_off", "resting", "paused", "failed"]);

/** The dye of a step: of its own state, or of the worst in the items that go through it. */
export function dyeOf({ step, bundle }: PlacedStep): StepState {
  return step.state ?? (step.counts ? dyeOfCounts(step.counts) : (bundle?.state ?? "waiting"));
}

/** The step to look at first in a graph too long to be read as a whole: the first that moves. */
export function focusOf({ steps }: Layout): string | null {
  const found = steps.find((one) => UNDER_WAY.has(dyeOf(one))) ?? steps[0];
  return found?.step.address ?? null;
}

/** Follow-ups with their names; in a run only those that have begun, or may still. */
function followUps(part: Part): [string, Part][] {
  return Object.entries(part.follow_ups ?? {})
    .filter(([, one]) => one.begun !== false || !part.ended_at)
    .map(([name, one]) => [name.replace("_", " "), one]);
}

interface Size {
  width: number;
  height: number;
  /** Where its thread runs, from its top. */
  middle: number;
  /** Its height without follow-ups. */
  own: number;
  /** Of a sequence or parallel: left edge and thread of each part. */
  places: { left: number; thread: number }[];
}

/**
 * The layout of a graph.
 *
 * `rowWidth`: a sequence that is wider goes on in a row below; without a limit nothing is folded.
 */
export function layOut(part: Part, rowWidth = ROW_WIDTH): Layout {
  const sizes = new Map<Part, Size>();
  const size = measure(part, sizes, rowWidth);
  const layout: Layout = {
    steps: [],
    frames: [],
    threads: [],
    width: size.width,
    height: size.height,
  };
  place(part, 0, size.middle, null, sizes, layout);
  link(part, layout.threads);
  return layout;
}

function measure(part: Part, sizes: Map<Part, Size>, rowWidth: number): Size {
  const size = measureOwn(part, sizes, rowWidth);
  size.own = size.height;
  for (const [, one] of followUps(part)) {
    const below = measure(one, sizes, rowWidth);
    size.width = Math.max(size.width, below.width + 2 * FRAME);
    size.height += ROW_GAP + FOLLOW_TOP + below.height + FRAME;
  }
  sizes.set(part, size);
  return size;
}

function measureOwn(part: Part, sizes: Map<Part, Size>, rowWidth: number): Size {
  const plain = { own: 0, places: [] };
  switch (part.kind) {
    case "step":
      return { width: STEP_WIDTH, height: STEP_HEIGHT, middle: STEP_HEIGHT / 2, ...plain };
    case "each": {
      const inner = measure(part.do, sizes, rowWidth);
      return {
        width: Math.max(inner.width, STEP_WIDTH) + 2 * FRAME,
        height: inner.height + FRAME_TOP + FRAME,
        middle: inner.middle + FRAME_TOP,
        ...plain,
      };
    }
    case "sequence":
      return measureSequence(
        part.parts.map((one) => measure(one, sizes, rowWidth)),
        rowWidth,
      );
    case "parallel":
      return measureParallel(part.parts, sizes, rowWidth);
    case "choose":
      return measureChoose(part.parts.map((one) => framed(measure(one, sizes, rowWidth))));
    case "fallback":
      return measureFallback(part.parts.map((one) => measure(one, sizes, rowWidth)));
  }
}

/** How much room a frame around a part takes. */
function framed({ width, height, middle }: Size): Size {
  return {
    width: width + 2 * FRAME,
    height: FOLLOW_TOP + height + FRAME,
    middle: FOLLOW_TOP + middle,
    own: 0,
    places: [],
  };
}

/** Branches in frames, one below the other. */
function measureChoose(found: Size[]): Size {
  const places: Size["places"] = [];
  let top = CAPTION;
  for (const one of found) {
    places.push({ left: 0, thread: top + one.middle });
    top += one.height + ROW_GAP;
  }
  const height = top - ROW_GAP;
  const width = most(found.map((one) => one.width));
  return { width, height, middle: (height + CAPTION) / 2, own: 0, places };
}

/** A part, and behind it in a frame what runs in its place. */
function measureFallback([first, other]: Size[]): Size {
  if (!first || !other) throw new Error("a fallback has two parts");
  const instead = framed(other);
  const above = Math.max(first.middle, instead.middle);
  const below = Math.max(first.height - first.middle, instead.height - instead.middle);
  const left = first.width + GAP;
  const places = [
    { left: 0, thread: above },
    { left, thread: above },
  ];
  return { width: left + instead.width, height: above + below, middle: above, own: 0, places };
}

/** Parts one behind the other, in as many rows as they need. */
function measureSequence(found: Size[], rowWidth: number): Size {
  const rows: Size[][] = [];
  let wide = 0;
  for (const one of found) {
    const row = rows.at(-1);
    if (row && wide + GAP + one.width <= rowWidth) {
      row.push(one);
      wide += GAP + one.width;
    } else {
      rows.push([one]);
      wide = one.width;
    }
  }
  const places: Size["places"] = [];
  let [top, width] = [0, 0];
  for (const row of rows) {
    const above = most(row.map((one) => one.middle));
    let left = 0;
    for (const one of row) {
      places.push({ left, thread: top + above });
      left += one.width + GAP;
    }
    width = Math.max(width, left - GAP);
    top += above + most(row.map((one) => one.height - one.middle)) + BETWEEN_ROWS;
  }
  const height = Math.max(0, top - BETWEEN_ROWS);
  return { width, height, middle: places[0]?.thread ?? 0, own: 0, places };
}

/** A line of branches of a parallel, one behind the other. */
interface Row {
  end: number;
  above: number;
  below: number;
  thread: number;
}

interface Branch {
  part: Part;
  size: Size;
  left: number;
  row: Row;
}

/** Branches on rows: each behind all that it waits for, on the row of one of them if free. */
function measureParallel(parts: Part[], sizes: Map<Part, Size>, rowWidth: number): Size {
  const folds = Number.isFinite(rowWidth);
  if (folds && parts.length > COLUMN && !parts.some((one) => one.waits_for?.length)) {
    return measureColumns(parts.map((one) => measure(one, sizes, rowWidth)));
  }
  const rows: Row[] = [];
  const branches = new Map<string, Branch>();
  for (const part of inOrder(parts)) {
    const size = measure(part, sizes, rowWidth);
    const waits = (part.waits_for ?? []).flatMap((label) => branches.get(label) ?? []);
    const left = most(waits.map((one) => one.left + one.size.width + GAP));
    let row = waits.map((one) => one.row).find(({ end }) => end + GAP <= left);
    if (!row) rows.push((row = { end: 0, above: 0, below: 0, thread: 0 }));
    row.end = left + size.width;
    row.above = Math.max(row.above, size.middle);
    row.below = Math.max(row.below, size.height - size.middle);
    branches.set(part.label, { part, size, left, row });
  }
  let top = CAPTION;
  for (const row of rows) {
    row.thread = top + row.above;
    top += row.above + row.below + ROW_GAP;
  }
  const height = top - ROW_GAP;
  const places = parts
    .flatMap((part) => branches.get(part.label) ?? [])
    .map(({ left, row }) => ({ left, thread: row.thread }));
  const width = most(rows.map(({ end }) => end));
  return { width, height, middle: (height + CAPTION) / 2, own: 0, places };
}

/** Many branches that wait for none of each other, in columns. */
function measureColumns(found: Size[]): Size {
  const high = found.reduce((sum, one) => sum + one.height + ROW_GAP, 0);
  const wide = most(found.map((one) => one.width)) + GAP;
  const columns = Math.max(1, Math.round(Math.sqrt((BREADTH * high) / wide)));
  const each = Math.max(Math.ceil(found.length / columns), 1);
  const places: Size["places"] = [];
  let [left, height] = [0, CAPTION];
  for (let first = 0; first < found.length; first += each) {
    const column = found.slice(first, first + each);
    let top = CAPTION;
    for (const one of column) {
      places.push({ left, thread: top + one.middle });
      top += one.height + ROW_GAP;
    }
    left += most(column.map((one) => one.width)) + GAP;
    height = Math.max(height, top - ROW_GAP);
  }
  return { width: left - GAP, height, middle: (height + CAPTION) / 2, own: 0, places };
}

/** Branches so that each comes behind those that it waits for, else in plan order. */
function inOrder(parts: Part[]): Part[] {
  const byLabel = new Map(parts.map((one) => [one.label, one]));
  const found = new Set<Part>();
  for (const start of parts) {
    const stack = [start];
    for (let one = stack.at(-1); one; one = stack.at(-1)) {
      const waits = (one.waits_for ?? []).flatMap((label) => byLabel.get(label) ?? []);
      const missing = waits.find((other) => !found.has(other));
      if (missing) stack.push(missing);
      else {
        found.add(one);
        stack.pop();
      }
    }
  }
  return [...found];
}

function place(
  part: Part,
  x: number,
  thread: number,
  bundle: EachPart | null,
  sizes: Map<Part, Size>,
  layout: Layout,
): void {
  const size = sizes.get(part);
  if (!size) return;
  const y = thread - size.middle;
  switch (part.kind) {
    case "step": {
      const room = { x, y, width: STEP_WIDTH, height: STEP_HEIGHT };
      layout.steps.push({ step: part, bundle, ...room });
      break;
    }
    case "parallel": {
      const room = { x, y, width: size.width, height: CAPTION };
      layout.frames.push({ kind: "caption", part, caption: part.label, ...room });
      part.parts.forEach((one, index) => {
        const at = size.places[index];
        if (at) place(one, x + at.left, y + at.thread, bundle, sizes, layout);
      });
      break;
    }
    case "each": {
      const width = Math.max(sizes.get(part.do)?.width ?? 0, STEP_WIDTH) + 2 * FRAME;
      const room = { x, y, width, height: size.own };
      layout.frames.push({ kind: "each", part, caption: part.label, ...room });
      place(part.do, x + FRAME, thread, bundle ?? part, sizes, layout);
      break;
    }
    case "choose":
    case "fallback": {
      if (part.kind === "choose") {
        const room = { x, y, width: size.width, height: CAPTION };
        layout.frames.push({ kind: "caption", part, caption: part.label, ...room });
      }
      part.parts.forEach((one, index) => {
        const at = size.places[index];
        if (!at) return;
        const here = [x + at.left, y + at.thread, bundle, sizes, layout] as const;
        if (part.kind === "choose") placeFramed(one, one.label, "branch", ...here);
        else if (index) placeFramed(one, "instead", "branch", ...here);
        else place(one, ...here);
      });
      break;
    }
    case "sequence":
      part.parts.forEach((one, index) => {
        const at = size.places[index];
        if (at) place(one, x + at.left, y + at.thread, bundle, sizes, layout);
      });
  }
  let below = y + size.own + ROW_GAP;
  for (const [name, one] of followUps(part)) {
    const inner = sizes.get(one);
    if (!inner) continue;
    const { middle, height } = framed(inner);
    placeFramed(one, name, "follow-up", x, below + middle, bundle, sizes, layout);
    below += height + ROW_GAP;
  }
}

/** Puts a frame around a part. */
function placeFramed(
  part: Part,
  caption: string,
  kind: "branch" | "follow-up",
  x: number,
  thread: number,
  bundle: EachPart | null,
  sizes: Map<Part, Size>,
  layout: Layout,
): void {
  const inner = sizes.get(part);
  if (!inner) return;
  const { width, height, middle } = framed(inner);
  layout.frames.push({ kind, part, caption, x, y: thread - middle, width, height });
  place(part, x + FRAME, thread, bundle, sizes, layout);
}

/** The steps that a part begins and ends with. */
interface Ends {
  first: string[];
  last: string[];
}

function link(part: Part, threads: Thread[]): Ends {
  for (const [, one] of followUps(part)) link(one, threads);
  if (part.kind === "step") return { first: [part.address], last: [part.address] };
  if (part.kind === "parallel" || part.kind === "choose") {
    return linkBranches(part.parts, threads);
  }
  if (part.kind === "fallback") {
    const [itself, other] = part.parts.map((one) => link(one, threads));
    join(itself?.last ?? [], other?.first ?? [], threads);
    return { first: itself?.first ?? [], last: [...(itself?.last ?? []), ...(other?.last ?? [])] };
  }
  const ends: Ends = { first: [], last: [] };
  for (const one of part.kind === "each" ? [part.do] : part.parts) {
    const behind = link(one, threads);
    join(ends.last, behind.first, threads);
    if (!ends.first.length) ends.first = behind.first;
    if (behind.last.length) ends.last = behind.last;
  }
  return ends;
}

function linkBranches(branches: Part[], threads: Thread[]): Ends {
  const found = new Map(branches.map((one) => [one.label, link(one, threads)]));
  const awaited = new Set(branches.flatMap((one) => one.waits_for ?? []));
  const ends: Ends = { first: [], last: [] };
  for (const one of branches) {
    const mine = found.get(one.label) ?? { first: [], last: [] };
    const waits = one.waits_for ?? [];
    for (const label of waits) join(found.get(label)?.last ?? [], mine.first, threads);
    if (!waits.length) ends.first.push(...mine.first);
    if (!awaited.has(one.label)) ends.last.push(...mine.last);
  }
  return ends;
}

function join(before: string[], after: string[], threads: Thread[]): void {
  for (const from of before) for (const to of after) threads.push({ from, to });
}

function most(numbers: number[]): number {
  return numbers.reduce((found, one) => Math.max(found, one), 0);
}
