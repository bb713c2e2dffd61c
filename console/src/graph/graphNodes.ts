/** From a layout to what is drawn: nodes and edges, the same objects where nothing changed. */

import type { FrameNodeType } from "./FrameNode";
import type { Hold } from "../api/types";
import { dyeOf, threadId, type Layout } from "./layout";
import type { Path } from "./longestPath";
import type { PictureNodeType } from "./Picture";
import { routesOf, type Route } from "./routes";
import type { StepNodeType } from "./StepNode";
import type { ThreadEdgeType } from "./ThreadEdge";
import classes from "./Weave.module.css";

export type WeaveNode = StepNodeType | FrameNodeType | PictureNodeType;

/** An address without the keys of items. */
export function withoutKeys(address: string | null): string | null {
  return address?.replaceAll(/\[[^\]]*\]/g, "") ?? null;
}

interface Kept<T> {
  /** What it was made of. */
  from: readonly unknown[];
  made: T;
}

/** What was made of the same before, or what is made of it now. */
function keep<T>(
  before: Map<string, Kept<T>>,
  now: Map<string, Kept<T>>,
  id: string,
  from: readonly unknown[],
  make: () => T,
): void {
  const known = before.get(id);
  const same = known?.from.every((one, index) => one === from[index]) ?? false;
  now.set(id, known && same ? known : { from, made: make() });
}

/**
 * Keeps what was drawn last, so that only what changed is drawn anew. Parts that did not change are
 * the same objects as before: the cache of answers sees to that.
 */
export class Drawing {
  private nodes = new Map<string, Kept<WeaveNode>>();
  private edges = new Map<string, Kept<ThreadEdgeType>>();
  private routes = { of: "", found: new Map<string, Route>() };

  /** The nodes of a layout. `current` is the one that the Tab key leads to. */
  nodesOf(
    layout: Layout,
    path: Path | null,
    chosen: string | null,
    current: string | null,
    onItem: (address: string) => void,
    hold: Hold | null,
  ): WeaveNode[] {
    const on = new Set(path?.parts);
    const tab = current ?? layout.steps[0]?.step.address;
    const found = new Map<string, Kept<WeaveNode>>();
    for (const { kind, part, caption, x, y, width, height } of layout.frames) {
      const id = `${kind} ${part.address}`;
      const opens = kind === "each" && part.state !== undefined;
      const isChosen = opens && part.address === chosen;
      const longest = kind === "each" && on.has(part.address);
      const from = [part, x, y, width, height, isChosen, longest, id === tab];
      keep<WeaveNode>(this.nodes, found, id, from, () => ({
        id,
        type: "frame",
        position: { x, y },
        width,
        height,
        zIndex: -1,
        focusable: opens,
        ariaRole: "group",
        ariaLabel: `${kind} ${part.address}`,
        domAttributes: opens ? { tabIndex: id === tab ? 0 : -1 } : {},
        data: { kind, part, caption, chosen: isChosen, longest, onItem },
      }));
    }
    for (const { step, bundle, x, y, width, height } of layout.steps) {
      const id = step.address;
      const isChosen =
        id === chosen ||
        (bundle !== null && id === withoutKeys(chosen)) ||
        (step.alike?.includes(chosen ?? "") ?? false);
      const longest = on.has(id);
      const here = hold !== null && (hold.address === id || step.alike?.includes(hold.address));
      const held = here ? hold : null;
      const from = [step, x, y, isChosen, longest, id === tab, held];
      keep<WeaveNode>(this.nodes, found, id, from, () => ({
        id,
        type: "step",
        position: { x, y },
        width,
        height,
        ariaRole: "group",
        ariaLabel: `step ${id}${step.state ? `, ${step.state.replace("_", " ")}` : ""}`,
        domAttributes: { tabIndex: id === tab ? 0 : -1 },
        data: { step, chosen: isChosen, longest, hold: held },
      }));
    }
    this.nodes = found;
    return [...found.values()].map(({ made }) => made);
  }

  /** The whole graph as one picture. */
  pictureOf(
    layout: Layout,
    path: Path | null,
    onNear: PictureNodeType["data"]["onNear"],
  ): WeaveNode[] {
    return [
      {
        id: "picture",
        type: "picture",
        position: { x: 0, y: 0 },
        width: layout.width,
        height: layout.height,
        focusable: true,
        ariaRole: "group",
        ariaLabel: `graph of ${layout.steps.length} steps; Enter comes nearer`,
        data: { layout, path, onNear },
      },
    ];
  }

  /** The threads of a layout, each in the dye of what it comes from. */
  edgesOf(layout: Layout, path: Path | null): ThreadEdgeType[] {
    const states = new Map(layout.steps.map((one) => [one.step.address, dyeOf(one)]));
    const routes = this.routesOf(layout);
    const found = new Map<string, Kept<ThreadEdgeType>>();
    for (const thread of layout.threads) {
      const id = threadId(thread);
      const dye = states.get(thread.from) ?? "waiting";
      const animated = states.get(thread.to) === "running";
      const longest = path?.threads.has(id) ?? false;
      const route = routes.get(id)?.path ?? "";
      keep(this.edges, found, id, [dye, animated, longest, route], () => ({
        id,
        source: thread.from,
        target: thread.to,
        type: "thread" as const,
        data: { path: route },
        className: longest ? `${classes.thread} ${classes.longest}` : classes.thread,
        style: { stroke: dye === "waiting" ? "var(--faded)" : `var(--dye-${dye})` },
        animated,
        focusable: false,
      }));
    }
    this.edges = found;
    return [...found.values()].map(({ made }) => made);
  }

  /** The routes of a layout; they depend on the places of its steps alone, which seldom change. */
  private routesOf(layout: Layout): Map<string, Route> {
    const of = layout.steps.map(({ step, x, y }) => `${step.address} ${x} ${y}`).join("\n");
    if (of !== this.routes.of) this.routes = { of, found: routesOf(layout) };
    return this.routes.found;
  }
}
