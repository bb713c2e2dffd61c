import { describe, expect, it } from "vitest";

import layouts from "../../../tests/drawing/layouts.json";
import type { Part } from "../api/types";
import { layOut, threadId } from "./layout";
import { crosses, routesOf } from "./routes";

const step = (address: string, waits?: string[]): Part =>
  ({
    kind: "step",
    label: address,
    address,
    task: "t",
    ...(waits?.length ? { waits_for: waits } : {}),
  }) as unknown as Part;
const group = (kind: "sequence" | "parallel", label: string, parts: Part[]): Part =>
  ({ kind, label, address: label, parts }) as unknown as Part;
const each = (label: string, inner: Part): Part =>
  ({ kind: "each", label, address: label, over: { param: "list" }, do: inner }) as unknown as Part;

/** Numbers that look drawn by lot, the same for a seed. */
function lots(seed: number): (below: number) => number {
  let state = seed;
  return (below) => {
    state = (state * 1_103_515_245 + 12_345) % 2_147_483_648;
    return Math.floor((state / 2_147_483_648) * below);
  };
}

/** A plan with sequences, parallels, branches that wait for others, and eaches, some deep. */
function randomPlan(seed: number): Part {
  const lot = lots(seed);
  let number = 0;
  const make = (depth: number, waits: string[] = []): Part => {
    const label = `n${(number += 1)}`;
    const kind = depth ? lot(4) : 0;
    if (kind === 0 || waits.length) return step(label, waits);
    if (kind === 3) return each(label, make(depth - 1));
    const parts: Part[] = [];
    for (let index = 0; index < 2 + lot(4); index += 1) {
      const names = parts.map(({ address }) => address);
      const joins = kind === 2 && names.length > 1 && lot(3) === 0;
      parts.push(
        make(depth - 1, joins ? [lot(names.length), 0].map((at) => String(names[at])) : []),
      );
    }
    return group(kind === 1 ? "sequence" : "parallel", label, parts);
  };
  return group("sequence", "all", [make(3), make(3), make(3)]);
}

/** The threads of a layout that run through a box; those of their ends they may touch. */
function behindBoxes(part: Part, rowWidth: number): string[] {
  const layout = layOut(part, rowWidth);
  const routes = routesOf(layout);
  return layout.threads
    .filter((thread) => {
      const points = routes.get(threadId(thread))?.points ?? [];
      return points.slice(1).some((point, index) =>
        layout.steps.some((box) => {
          const isEnd = [thread.from, thread.to].includes(box.step.address);
          return crosses(points[index] ?? point, point, box, isEnd ? -2 : 2);
        }),
      );
    })
    .map(threadId);
}

describe("the routes of threads", () => {
  it.each(layouts)("pass behind no box of another step", ({ view }) => {
    expect(behindBoxes(view as unknown as Part, Infinity)).toEqual([]);
  });

  it("pass behind none in many plans, in rows of any width", () => {
    const found = Array.from({ length: 80 }, (_, seed) => seed + 1).flatMap((seed) =>
      [Infinity, 1_920, 900].flatMap((wide) =>
        behindBoxes(randomPlan(seed), wide).map((thread) => `${seed} ${wide} ${thread}`),
      ),
    );
    expect(found).toEqual([]);
  });
});
