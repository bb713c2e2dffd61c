/** From a layout to what is drawn: nodes and edges, the same objects where nothing changed. */

import type { Edge } from "@xyflow/react";

import type { FrameNodeType } from "./FrameNode";
import { threadId, type Layout } from "./layout";
import type { Path } from "./longest";
import type { StepNodeType } from "./StepNode";
import classes from "./Weave.module.css";

export type WeaveNode = StepNodeType | FrameNodeType;

/** Keeps what was drawn last, so that only what changed is drawn anew. */
export class Drawing {
  private nodes = new Map<string, { text: string; node: WeaveNode }>();
  private edges = new Map<string, { text: string; edge: Edge }>();

  /** The nodes of a layout. `current` is the one that the Tab key leads to. */
  nodesOf(
    layout: Layout,
    path: Path | null,
    chosen: string | null,
    current: string | null,
    onItem: (address: string) => void,
  ): WeaveNode[] {
    const on = new Set(path?.parts);
    const tab = current ?? layout.steps[0]?.step.address;
    const found = new Map<string, { text: string; node: WeaveNode }>();
    const keep = (id: string, text: string, make: () => WeaveNode) => {
      const known = this.nodes.get(id);
      found.set(id, known?.text === text ? known : { text, node: make() });
    };
    for (const { kind, part, caption, x, y, width, height } of layout.frames) {
      const id = `${kind} ${part.address}`;
      const opens = kind === "each" && part.state !== undefined;
      const isChosen = opens && part.address === chosen;
      const longest = kind === "each" && on.has(part.address);
      const shown = part.kind === "each" ? { ...part, do: null } : { state: part.state };
      const text = JSON.stringify([x, y, width, height, isChosen, longest, id === tab, shown]);
      keep(id, text, () => ({
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
    for (const { step, x, y, width, height } of layout.steps) {
      const id = step.address;
      const [isChosen, longest] = [id === chosen, on.has(id)];
      const text = JSON.stringify([x, y, isChosen, longest, id === tab, step]);
      keep(id, text, () => ({
        id,
        type: "step",
        position: { x, y },
        width,
        height,
        ariaRole: "group",
        ariaLabel: `step ${id}${step.state ? `, ${step.state.replace("_", " ")}` : ""}`,
        domAttributes: { tabIndex: id === tab ? 0 : -1 },
        data: { step, chosen: isChosen, longest },
      }));
    }
    this.nodes = found;
    return [...found.values()].map(({ node }) => node);
  }

  /** The threads of a layout, each in the dye of what it comes from. */
  edgesOf({ steps, threads }: Layout, path: Path | null): Edge[] {
    const states = new Map(steps.map(({ step }) => [step.address, step.state ?? "waiting"]));
    const found = new Map<string, { text: string; edge: Edge }>();
    for (const thread of threads) {
      const id = threadId(thread);
      const dye = states.get(thread.from) ?? "waiting";
      const animated = states.get(thread.to) === "running";
      const longest = path?.threads.has(id) ?? false;
      const text = `${dye} ${animated} ${longest}`;
      const known = this.edges.get(id);
      const edge: Edge = {
        id,
        source: thread.from,
        target: thread.to,
        className: longest ? `${classes.thread} ${classes.longest}` : classes.thread,
        style: { stroke: `var(--dye-${dye})` },
        animated,
        focusable: false,
      };
      found.set(id, known?.text === text ? known : { text, edge });
    }
    this.edges = found;
    return [...found.values()].map(({ edge }) => edge);
  }
}
