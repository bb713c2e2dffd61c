/** Where the arrow keys lead in a graph: along the thread, and to what stands above or below. */

import type { Layout } from "./layout";

export type Way = "left" | "right" | "up" | "down";

interface Spot {
  id: string;
  x: number;
  y: number;
}

/** What stands in a direction from a step or an each; null if nothing does. */
export function walk(layout: Layout, id: string, way: Way): string | null {
  const spots = spotsOf(layout);
  const here = spots.get(id);
  if (!here) return layout.steps[0]?.step.address ?? null;
  if (way === "left" || way === "right") {
    const threads = layout.threads.flatMap(({ from, to }) => {
      if (way === "right") return from === id ? [to] : [];
      return to === id ? [from] : [];
    });
    return nearest(
      here,
      threads.flatMap((one) => spots.get(one) ?? []),
    );
  }
  const sign = way === "down" ? 1 : -1;
  const there = [...spots.values()].filter((one) => (one.y - here.y) * sign > 1);
  return nearest(here, there);
}

function spotsOf({ steps, frames }: Layout): Map<string, Spot> {
  const found = new Map<string, Spot>();
  for (const { step, x, y, width, height } of steps) {
    found.set(step.address, { id: step.address, x: x + width / 2, y: y + height / 2 });
  }
  for (const { kind, part, x, y, width } of frames) {
    if (kind !== "each" || !part.state) continue;
    const id = `each ${part.address}`;
    found.set(id, { id, x: x + width / 2, y });
  }
  return found;
}

/** The nearest; what stands aside counts twice as far. */
function nearest(here: Spot, some: Spot[]): string | null {
  const far = (one: Spot) => Math.abs(one.y - here.y) + 2 * Math.abs(one.x - here.x);
  return (
    some.reduce<Spot | null>((a, b) => (a === null || far(b) < far(a) ? b : a), null)?.id ?? null
  );
}
