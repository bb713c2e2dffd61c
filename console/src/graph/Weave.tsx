import "@xyflow/react/dist/style.css";

import { useComputedColorScheme } from "@mantine/core";
import { Background, Controls, ReactFlow, useReactFlow, useStore, type Edge } from "@xyflow/react";
import { useEffect, useMemo, useRef } from "react";

import type { Part } from "../api/types";
import { focusOf, layOut, STEP_HEIGHT, STEP_WIDTH, type Layout } from "./layout";
import { StepNode, type StepNodeType } from "./StepNode";
import classes from "./Weave.module.css";

const nodeTypes = { step: StepNode };
const FIT = { maxZoom: 1, padding: 0.06 };
/** The smallest zoom at which a step can be read, and how many steps are shown instead. */
const SMALLEST = 0.45;
const FOCUS = 7;

interface Props {
  /** The run's parts with their states. */
  graph: Part;
  /** Address of the step that is open; none is null. */
  chosen: string | null;
  /** Called with a step's address when it is to be opened. */
  onChoose: (address: string) => void;
}

/** The graph of a run: threads through its steps, in the dyes of their states. */
export function Weave({ graph, chosen, onChoose }: Props) {
  const scheme = useComputedColorScheme("light");
  const layout = useMemo(() => layOut(graph), [graph]);
  const { nodes, edges } = useMemo(() => toFlow(layout, chosen), [layout, chosen]);
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
        onNodeClick={(_event, node) => onChoose(node.id)}
        onSelectionChange={({ nodes: [first] }) => first && onChoose(first.id)}
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
  { steps, threads }: Layout,
  chosen: string | null,
): { nodes: StepNodeType[]; edges: Edge[] } {
  const states = new Map(steps.map(({ step }) => [step.address, step.state]));
  return {
    nodes: steps.map(({ step, x, y }) => ({
      id: step.address,
      type: "step",
      position: { x, y },
      width: STEP_WIDTH,
      height: STEP_HEIGHT,
      ariaLabel: `step ${step.address}, ${step.state}`,
      data: { step, chosen: step.address === chosen },
    })),
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
