import "@xyflow/react/dist/style.css";

import { useComputedColorScheme } from "@mantine/core";
import { Background, Controls, ReactFlow, useReactFlow, useStore, type Edge } from "@xyflow/react";
import { useEffect, useMemo, useRef } from "react";

import type { Part } from "../api/types";
import { FrameNode, type FrameNodeType } from "./FrameNode";
import { focusOf, layOut, type Layout } from "./layout";
import { StepNode, type StepNodeType } from "./StepNode";
import classes from "./Weave.module.css";

const nodeTypes = { step: StepNode, frame: FrameNode };
type WeaveNode = StepNodeType | FrameNodeType;
const FIT = { maxZoom: 1, padding: 0.06 };
/** The smallest zoom at which a step can be read, and how many steps are shown instead. */
const SMALLEST = 0.45;
const FOCUS = 7;

interface Props {
  /** The run's parts with their states. */
  graph: Part;
  /** Address of the step or each that is open; none is null. */
  chosen: string | null;
  /** Called with a step's address when it is to be opened. */
  onStep: (address: string) => void;
  /** Called with an each's address when its items are to be listed. */
  onEach: (address: string) => void;
  /** Called with an item's address when its parts are to be shown. */
  onItem: (address: string) => void;
}

/** The graph of a run: threads through its steps, in the dyes of their states. */
export function Weave({ graph, chosen, onStep, onEach, onItem }: Props) {
  const scheme = useComputedColorScheme("light");
  const layout = useMemo(() => layOut(graph), [graph]);
  const { nodes, edges } = useMemo(() => toFlow(layout, chosen, onItem), [layout, chosen, onItem]);
  const open = (node: WeaveNode) => {
    if (node.type === "step") {
      const bundle = layout.steps.find(({ step }) => step.address === node.id)?.bundle;
      if (bundle) onEach(bundle.address);
      else onStep(node.id);
    } else if (node.data.part.kind === "each" && node.data.part.state) {
      onEach(node.data.part.address);
    }
  };
  return (
    <div className={classes.weave} data-testid="weave">
      <ReactFlow
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        colorMode={scheme}
        fitViewOptions={FIT}
        minZoom={0.1}
        maxZoom={2}
        nodesDraggable={false}
        nodesConnectable={false}
        edgesFocusable={false}
        proOptions={{ hideAttribution: true }}
        onNodeClick={(_event, node) => open(node)}
        onSelectionChange={({ nodes: [first] }) => first && open(first)}
        onlyRenderVisibleElements
      >
        <FitToWidth layout={layout} />
        <Background gap={22} size={1} color="var(--edge)" />
        <Controls showInteractive={false} position="bottom-right" />
      </ReactFlow>
    </div>
  );
}

/**
 * Fits the graph anew when its frame becomes wider or narrower, as when a step is opened. One that
 * would be too small to read is not shown whole, but where something moves.
 */
function FitToWidth({ layout }: { layout: Layout }) {
  const width = useStore((store) => store.width);
  const { fitView } = useReactFlow();
  const newest = useRef(layout);
  useEffect(() => {
    newest.current = layout;
  });
  useEffect(() => {
    if (!width) return;
    const { current } = newest;
    const readable = current.width * SMALLEST < width;
    const nodes = readable ? undefined : focusOf(current, FOCUS).map((id) => ({ id }));
    void fitView({ ...FIT, nodes });
  }, [width, fitView]);
  return null;
}

function toFlow(
  { steps, frames, threads }: Layout,
  chosen: string | null,
  onItem: (address: string) => void,
): { nodes: WeaveNode[]; edges: Edge[] } {
  const states = new Map(steps.map(({ step }) => [step.address, step.state ?? "waiting"]));
  const framed: FrameNodeType[] = frames.map(({ kind, part, caption, x, y, width, height }) => ({
    id: `${kind} ${part.address}`,
    type: "frame",
    position: { x, y },
    width,
    height,
    zIndex: -1,
    selectable: kind === "each" && part.state !== undefined,
    focusable: kind === "each" && part.state !== undefined,
    ariaLabel: `${kind} ${part.address}`,
    data: { kind, part, caption, chosen: kind === "each" && part.address === chosen, onItem },
  }));
  return {
    nodes: [
      ...framed,
      ...steps.map(({ step, x, y, width, height }): StepNodeType => ({
        id: step.address,
        type: "step",
        position: { x, y },
        width,
        height,
        ariaLabel: `step ${step.address}${step.state ? `, ${step.state}` : ""}`,
        data: { step, chosen: step.address === chosen },
      })),
    ],
    edges: threads.map(({ from, to }) => ({
      id: `${from}→${to}`,
      source: from,
      target: to,
      className: classes.thread,
      // The thread behind a step takes its dye once the step has ended.
      data: { dye: states.get(from) },
      style: { stroke: `var(--dye-${states.get(from) ?? "waiting"})` },
      animated: states.get(to) === "running",
    })),
  };
}
