/**
 * Where the parts of a plan stand: a fold over the plan, in one pass.
 *
 * Time runs left to right. A sequence is one thread through its parts. Positions depend on the plan
 * alone, never on states, so nothing moves while a run does.
 */

import type { Part, StepPart } from "../api/types";

export const STEP_WIDTH = 208;
export const STEP_HEIGHT = 84;
export const GAP = 52;

export interface PlacedStep {
  step: StepPart;
  x: number;
  y: number;
}

/** A piece of thread between two steps, by their addresses. */
export interface Thread {
  from: string;
  to: string;
}

export interface Layout {
  steps: PlacedStep[];
  threads: Thread[];
  width: number;
  height: number;
}

const UNDER_WAY = new Set(["running", "ready", "backing_off", "resting", "paused", "failed"]);

/** The steps to look at first in a graph too long to be read as a whole: around what moves. */
export function focusOf({ steps }: Layout, count: number): string[] {
  const found = steps.findIndex(({ step }) => UNDER_WAY.has(step.state));
  const first = Math.max(0, (found < 0 ? 0 : found) - Math.floor(count / 2));
  return steps.slice(first, first + count).map(({ step }) => step.address);
}

interface Block extends Layout {
  /** Addresses of the steps that the thread enters by, and leaves by. */
  first: string[];
  last: string[];
}

/** The layout of a plan. */
export function layOut(part: Part): Layout {
  return place(part, 0, 0);
}

function place(part: Part, x: number, y: number): Block {
  if (part.kind === "step") {
    return {
      steps: [{ step: part, x, y }],
      threads: [],
      width: STEP_WIDTH,
      height: STEP_HEIGHT,
      first: [part.address],
      last: [part.address],
    };
  }
  const whole: Block = { steps: [], threads: [], width: 0, height: 0, first: [], last: [] };
  for (const inner of part.parts) {
    const gap = whole.steps.length ? GAP : 0;
    const block = place(inner, x + whole.width + gap, y);
    for (const from of whole.last) for (const to of block.first) whole.threads.push({ from, to });
    for (const step of block.steps) whole.steps.push(step);
    for (const thread of block.threads) whole.threads.push(thread);
    whole.width += gap + block.width;
    whole.height = Math.max(whole.height, block.height);
    if (!whole.first.length) whole.first = block.first;
    whole.last = block.last;
  }
  return whole;
}
