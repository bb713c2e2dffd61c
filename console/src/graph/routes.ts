/**
 * How a thread runs from step to step, so that it passes behind no other step's box.
 *
 * A curve where that is free; otherwise it keeps the height of the step it comes from until just
 * before its end, or takes that of its end at once, or runs in a gap between rows.
 */

import { FOLLOW_TOP, GAP, threadId, type Layout, type Place, type PlacedFrame } from "./layout";

type Point = readonly [x: number, y: number];

export interface Route {
  /** As SVG has it. */
  path: string;
  /** The same as straight pieces. */
  points: Point[];
}

/** How far from a box a thread turns. */
const ASIDE = 16;
/** How far a box reaches beyond its edge, for a thread that goes by. */
const MARGIN = 2;
/** How much of an end's own box a thread may touch. */
const TOUCH = -2;
/** How wide a letter of a caption is, with room to spare. */
const LETTER = 10;
/** How many straight pieces stand for a curve. */
const PIECES = 12;
/** So many gaps are tried, the nearest first. */
const TRIED = 60;
/** So many gaps beside either end are tried for a way with more corners. */
const BESIDE = 16;
const ROUND = 8;

/** The routes of all threads of a layout, by the threads' ids. */
export function routesOf(layout: Layout): Map<string, Route> {
  const steps = new Map(layout.steps.map((one) => [one.step.address, one]));
  const words = layout.frames.filter(({ kind }) => kind !== "each").map(wordsOf);
  const [clear, boxes] = [boxesOf(layout, words), boxesOf(layout, [])];
  const found = new Map<string, Route>();
  for (const thread of layout.threads) {
    const [from, to] = [steps.get(thread.from), steps.get(thread.to)];
    if (!from || !to) continue;
    // Where there is no other way it may run through a caption.
    const route = routeOf(from, to, clear) ?? routeOf(from, to, boxes);
    found.set(threadId(thread), route ?? curve([rightOf(from)], leftOf(to)));
  }
  return found;
}

/** Where the words of a frame stand: all of a caption, or at the top of what is framed. */
function wordsOf(frame: PlacedFrame): Place {
  const width = LETTER * frame.caption.length;
  return frame.kind === "caption"
    ? { ...frame, width }
    : { x: frame.x + ASIDE, y: frame.y, width, height: FOLLOW_TOP };
}

function routeOf(from: Place, to: Place, boxes: Boxes): Route | null {
  const [begin, end] = [rightOf(from), leftOf(to)];
  const isFree = ({ points }: Route) => !isBlocked(points, boxes, from, to);
  const direct = curve([begin], end);
  const ahead = end[0] - begin[0];
  if (ahead > 0) {
    if (isFree(direct)) return direct;
    const turn = Math.min(GAP, ahead / 2);
    const late = curve([begin, [end[0] - turn, begin[1]]], end);
    if (isFree(late)) return late;
    const early = curve([begin], [begin[0] + turn, end[1]], end);
    if (isFree(early)) return early;
  }
  for (const y of gapsNear(from, to, boxes)) {
    const [out, back] = [begin[0] + ASIDE, end[0] - ASIDE];
    const around = corners([begin, [out, begin[1]], [out, y], [back, y], [back, end[1]], end]);
    if (isFree(around)) return around;
  }
  for (const detour of detours(from, to, boxes)) {
    if (isFree(detour)) return detour;
  }
  return null;
}

/** Where threads leave a step. */
function rightOf({ x, y, width, height }: Place): Point {
  return [x + width, y + height / 2];
}

/** Where threads come into a step. */
function leftOf({ x, y, height }: Place): Point {
  return [x, y + height / 2];
}

/** A line along `before`, then a curve to `to`, then a line to `after`. */
function curve(before: Point[], to: Point, after?: Point): Route {
  const last = before.at(-1) ?? to;
  const bend = Math.max((to[0] - last[0]) / 2, ASIDE);
  const [one, two]: [Point, Point] = [
    [last[0] + bend, last[1]],
    [to[0] - bend, to[1]],
  ];
  const pieces = Array.from({ length: PIECES + 1 }, (_, index) =>
    cubic(last, one, two, to, index / PIECES),
  );
  const start = before.map((point, index) => `${index ? "L" : "M"}${point.join(",")}`).join("");
  const path = `${start}C${one.join(",")} ${two.join(",")} ${to.join(",")}`;
  return {
    path: after ? `${path}L${after.join(",")}` : path,
    points: [...before.slice(0, -1), ...pieces, ...(after ? [after] : [])],
  };
}

function cubic(a: Point, b: Point, c: Point, d: Point, at: number): Point {
  const left = 1 - at;
  const on = (axis: 0 | 1) =>
    left ** 3 * a[axis] +
    3 * left ** 2 * at * b[axis] +
    3 * left * at ** 2 * c[axis] +
    at ** 3 * d[axis];
  return [on(0), on(1)];
}

/** Straight lines with round corners. */
function corners(points: Point[]): Route {
  const path = points.map((point, index) => {
    const [before, after] = [points[index - 1], points[index + 1]];
    if (!before) return `M${point.join(",")}`;
    if (!after) return `L${point.join(",")}`;
    return `L${toward(point, before).join(",")}Q${point.join(",")} ${toward(point, after).join(",")}`;
  });
  return { path: path.join(""), points };
}

/** The point where a corner begins or ends. */
function toward(corner: Point, other: Point): Point {
  const far = Math.hypot(other[0] - corner[0], other[1] - corner[1]);
  const part = far ? Math.min(ROUND, far / 2) / far : 0;
  return [corner[0] + (other[0] - corner[0]) * part, corner[1] + (other[1] - corner[1]) * part];
}

/** Ways along a gap beside the first step, one beside the last, and from the one to the other. */
function* detours(from: Place, to: Place, boxes: Boxes): Generator<Route> {
  const [begin, end] = [rightOf(from), leftOf(to)];
  const [out, back] = [begin[0] + ASIDE, end[0] - ASIDE];
  const lanes = lanesNear(begin[0], end[0], boxes);
  const before = gapsNear(to, from, boxes).slice(0, BESIDE);
  const after = gapsNear(from, to, boxes).slice(0, BESIDE);
  for (const one of before) {
    for (const other of after) {
      for (const x of lanes) {
        const middle: Point[] = [
          [out, one],
          [x, one],
          [x, other],
          [back, other],
        ];
        yield corners([begin, [out, begin[1]], ...middle, [back, end[1]], end]);
      }
    }
  }
}

/** Places right before and behind boxes: those nearest to the ends first. */
function lanesNear(begin: number, end: number, { lanes }: Boxes): number[] {
  const half = TRIED / 2;
  return [...nearest(lanes, begin + ASIDE, half), ...nearest(lanes, end - ASIDE, half)];
}

/**
 * Heights right above and below boxes, between two steps: those nearest to the second first, or to
 * the outermost frame around it that the first is not in.
 */
function gapsNear(from: Place, to: Place, { gaps, frames }: Boxes): number[] {
  const around = frames.filter((frame) => contains(frame, to) && !contains(frame, from));
  const outside = around.map(({ y }) => y - ASIDE);
  // Far enough to go around a frame whose step stands at the height of both.
  const top = Math.min(from.y, to.y) - FOLLOW_TOP - ASIDE;
  const bottom = Math.max(from.y + from.height, to.y + to.height) + 2 * ASIDE;
  const aims = [...outside, to.y, to.y + to.height].sort((a, b) => a - b);
  const found = aims.flatMap((aim) => nearest(gaps, aim, Math.ceil(TRIED / aims.length)));
  return [...new Set(found)].filter((y) => y >= top && y <= bottom);
}

function contains(frame: Place, { x, y }: Place): boolean {
  const right = frame.x + frame.width;
  return x >= frame.x && x < right && y >= frame.y && y < frame.y + frame.height;
}

/** The numbers nearest to one, of a list in order. */
function nearest(sorted: number[], to: number, count: number): number[] {
  let [low, high] = [0, sorted.length];
  while (low < high) {
    const middle = (low + high) >> 1;
    if ((sorted[middle] ?? to) < to) low = middle + 1;
    else high = middle;
  }
  const near = sorted.slice(Math.max(0, low - count), low + count);
  return near.sort((a, b) => Math.abs(a - to) - Math.abs(b - to)).slice(0, count);
}

/** The boxes of a layout, for one question after the other. */
interface Boxes {
  /** By the square of the graph in which they, or parts of them, lie. */
  squares: Map<number, Place[]>;
  frames: PlacedFrame[];
  /** Right above and below each box, in order. */
  gaps: number[];
  /** Right before and behind each box, in order. */
  lanes: number[];
}

const SQUARE = 256;
/** More than so many squares lie in no row. */
const ACROSS = 1 << 20;

function boxesOf({ steps, frames }: Layout, words: Place[]): Boxes {
  const squares = new Map<number, Place[]>();
  for (const one of [...steps, ...words]) {
    const ends = [one.x, one.y, one.x + one.width, one.y + one.height] as const;
    for (const square of squaresOf(...ends)) {
      const known = squares.get(square);
      if (known) known.push(one);
      else squares.set(square, [one]);
    }
  }
  const inOrder = (numbers: number[]) => [...new Set(numbers)].sort((a, b) => a - b);
  const all = [...steps, ...frames];
  // A thread along a border would be taken for it.
  const borders = new Set(frames.flatMap(({ y, height }) => [y, y + height]));
  return {
    squares,
    frames: frames.filter(({ kind }) => kind !== "caption"),
    gaps: inOrder(all.flatMap(({ y, height }) => [y - ASIDE, y + height + ASIDE])).filter(
      (gap) => !borders.has(gap),
    ),
    lanes: inOrder(all.flatMap(({ x, width }) => [x - ASIDE, x + width + ASIDE])),
  };
}

function* squaresOf(left: number, top: number, right: number, bottom: number): Generator<number> {
  const at = (place: number) => Math.floor(place / SQUARE);
  for (let row = at(top); row <= at(bottom); row += 1) {
    for (let column = at(left); column <= at(right); column += 1) yield row * ACROSS + column;
  }
}

/** Whether a way runs through a box; those of its ends it may touch. */
function isBlocked(points: Point[], { squares }: Boxes, ...ends: Place[]): boolean {
  for (const [index, b] of points.entries()) {
    const a = points[index - 1] ?? b;
    const [left, right] = [Math.min(a[0], b[0]), Math.max(a[0], b[0])];
    const [top, bottom] = [Math.min(a[1], b[1]), Math.max(a[1], b[1])];
    for (const square of squaresOf(left - MARGIN, top - MARGIN, right + MARGIN, bottom + MARGIN)) {
      for (const box of squares.get(square) ?? []) {
        if (crosses(a, b, box, ends.includes(box) ? TOUCH : MARGIN)) return true;
      }
    }
  }
  return false;
}

/** Whether a straight piece runs through a box with a margin. */
export function crosses(a: Point, b: Point, box: Place, margin = MARGIN): boolean {
  let [enters, leaves] = [0, 1];
  const ranges = [
    [box.x - margin, box.x + box.width + margin],
    [box.y - margin, box.y + box.height + margin],
  ] as const;
  for (const axis of [0, 1] as const) {
    const [low, high] = ranges[axis];
    const far = b[axis] - a[axis];
    if (far === 0) {
      if (a[axis] <= low || a[axis] >= high) return false;
      continue;
    }
    const [one, two] = [(low - a[axis]) / far, (high - a[axis]) / far];
    enters = Math.max(enters, Math.min(one, two));
    leaves = Math.min(leaves, Math.max(one, two));
  }
  return enters < leaves;
}
