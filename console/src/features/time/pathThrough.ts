/** The longest path as a line through the rows of the time view. */

import type { TimesRow } from "../../api/types";
import type { Path } from "../../graph/longestPath";

/** A piece of the line in one row: `x` along the time and `y` down the row, both from 0 to 1. */
export interface Stroke {
  x1: number;
  y1: number;
  x2: number;
  y2: number;
}

/**
 * The pieces of the line, by row: along each part of the path while it ran, and from its end down or
 * up to the next part, through the rows between.
 */
export function pathThrough(
  rows: TimesRow[],
  path: Path | null,
  span: { from: number; to: number },
): Stroke[][] {
  const strokes = rows.map((): Stroke[] => []);
  if (!path) return strokes;
  const width = span.to - span.from || 1;
  const along = (time: number) => Math.min(1, Math.max(0, (time - span.from) / width));
  const stops = path.parts.flatMap((address, at) => {
    const row = rows.findIndex((one) => one.address === address);
    const its = path.spans[at];
    return row < 0 || !its ? [] : [{ row, from: along(its.from), to: along(its.to) }];
  });
  stops.forEach((stop, at) => {
    strokes[stop.row]?.push({ x1: stop.from, y1: 0.5, x2: stop.to, y2: 0.5 });
    const next = stops[at + 1];
    if (!next) return;
    // What began before the other had ended, by another clock, is joined where it began.
    const x = Math.min(stop.to, next.from);
    const [upper, lower] = [Math.min(stop.row, next.row), Math.max(stop.row, next.row)];
    for (let row = upper; row <= lower; row += 1) {
      const [y1, y2] = [row === upper ? 0.5 : 0, row === lower ? 0.5 : 1];
      strokes[row]?.push({ x1: x, y1, x2: x, y2 });
    }
  });
  return strokes;
}
