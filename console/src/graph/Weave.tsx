import "@xyflow/react/dist/style.css";

import { useComputedColorScheme } from "@mantine/core";
import {
  Background,
  Controls,
  Panel,
  ReactFlow,
  ReactFlowProvider,
  useReactFlow,
  useStore,
} from "@xyflow/react";
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";

import type { Part } from "../api/types";
import { spell } from "../components/time";
import { FrameNode } from "./FrameNode";
import { focusOf, layOut, type Layout, type PlacedStep } from "./layout";
import { Legend } from "./Legend";
import { longestPath } from "./longest";
import { Drawing, type WeaveNode } from "./nodes";
import { PictureNode } from "./Picture";
import { StepNode } from "./StepNode";
import { walk, type Way } from "./walk";
import classes from "./Weave.module.css";

const nodeTypes = { step: StepNode, frame: FrameNode, picture: PictureNode };
const FIT = { maxZoom: 1, padding: 0.05 };
/** The smallest zoom at which a graph is shown whole: that of a run is to be read. */
const SMALLEST = { run: 0.55, plan: 0.35 };
/** How many steps are shown of one that would be smaller, or how near what is open. */
const FOCUS = 6;
const NEAR = 0.75;
/** Below this zoom steps are mere blocks of dye; more than so many are one picture then. */
const FAR = 0.32;
const MANY = 300;
const KEYS = {
  "node.a11yDescription.default": "Enter opens it; arrows lead along the thread.",
  "node.a11yDescription.keyboardDisabled": "Enter opens it; arrows lead along the thread.",
};
const WAYS: Record<string, Way> = {
  ArrowLeft: "left",
  ArrowRight: "right",
  ArrowUp: "up",
  ArrowDown: "down",
};

interface Props {
  /** The parts of a run with their states, or of a plan. */
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
export function Weave(props: Props) {
  return (
    <ReactFlowProvider>
      <Flow {...props} />
    </ReactFlowProvider>
  );
}

function Flow({ graph, chosen, onStep, onEach, onItem }: Props) {
  const scheme = useComputedColorScheme("light");
  const frame = useRef<HTMLDivElement>(null);
  const [drawing] = useState(() => new Drawing());
  const [current, setCurrent] = useState<string | null>(null);
  const layout = useMemo(() => layOut(graph), [graph]);
  const path = useMemo(() => longestPath(layout), [layout]);
  const far = useStore((store) => store.transform[2] < FAR);
  const { zoomIn, zoomOut, fitView, getNode, getZoom, setCenter } = useReactFlow<WeaveNode>();
  const pictured = far && layout.steps.length > MANY;
  const onNear = useCallback(
    ({ step, x, y, width, height }: PlacedStep) => {
      setCurrent(step.address);
      void setCenter(x + width / 2, y + height / 2, { zoom: NEAR });
    },
    [setCenter],
  );
  const nodes = useMemo(
    () =>
      pictured
        ? drawing.pictureOf(layout, path, onNear)
        : drawing.nodesOf(layout, path, chosen, current, onItem),
    [drawing, pictured, layout, path, chosen, current, onItem, onNear],
  );
  const edges = useMemo(
    () => (pictured ? [] : drawing.edgesOf(layout, path)),
    [drawing, pictured, layout, path],
  );

  const open = (node: WeaveNode) => {
    if (node.type === "picture") {
      const address = focusOf(layout, 1)[0];
      const moving = layout.steps.find(({ step }) => step.address === address);
      if (moving) onNear(moving);
    } else if (node.type === "step") {
      const bundle = layout.steps.find(({ step }) => step.address === node.id)?.bundle;
      if (!bundle) onStep(node.id);
      else if (bundle.state) onEach(bundle.address);
    } else if (node.type === "frame" && node.data.part.kind === "each" && node.data.part.state) {
      onEach(node.data.part.address);
    }
  };
  const goTo = (id: string) => {
    setCurrent(id);
    const node = getNode(id);
    if (!node) return;
    const focus = () => {
      const found = frame.current?.querySelector<HTMLElement>(`[data-id="${CSS.escape(id)}"]`);
      found?.focus();
      return found;
    };
    if (focus()) return;
    // What is not in view is not drawn: it is brought there first.
    const { x, y } = node.position;
    const middle = [x + (node.width ?? 0) / 2, y + (node.height ?? 0) / 2] as const;
    void setCenter(...middle, { zoom: getZoom() }).then(() => requestAnimationFrame(focus));
  };
  const onKey = (event: KeyboardEvent) => {
    const target = event.target as HTMLElement;
    const id = target.closest<HTMLElement>(".react-flow__node")?.dataset.id;
    if (id === undefined || target.tagName === "BUTTON") return;
    const way = WAYS[event.key];
    const node = getNode(id);
    if (way) {
      const next = walk(layout, id, way);
      if (next !== null) goTo(next);
    } else if (event.key === "Enter" || event.key === " ") {
      if (node) open(node);
    } else if (event.key === "+" || event.key === "=") void zoomIn();
    else if (event.key === "-") void zoomOut();
    else if (event.key === "0") void fitView(FIT);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <div
      className={classes.weave}
      data-testid="weave"
      data-far={far || undefined}
      ref={frame}
      onKeyDownCapture={onKey}
    >
      <ReactFlow
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        colorMode={scheme}
        fitViewOptions={FIT}
        minZoom={0.05}
        maxZoom={2}
        nodesDraggable={false}
        nodesConnectable={false}
        elementsSelectable={false}
        edgesFocusable={false}
        ariaLabelConfig={KEYS}
        proOptions={{ hideAttribution: true }}
        onNodeClick={(_event, node) => {
          if (node.type === "picture") return; // it knows where on it the click was
          setCurrent(node.id);
          open(node);
        }}
        onlyRenderVisibleElements
      >
        <FitToFrame layout={layout} chosen={chosen} />
        <Background gap={22} size={1} color="var(--edge)" />
        <Controls showInteractive={false} position="bottom-right" />
        <Panel position="top-right">
          <Legend />
        </Panel>
        {path && (
          <Panel position="top-left" className={classes.pathNote}>
            <span className={classes.sample} data-longest /> longest path {spell(path.seconds)}
          </Panel>
        )}
      </ReactFlow>
    </div>
  );
}

/**
 * Fits the graph anew when its frame becomes wider or narrower, as when a step is opened. One that
 * would be too small to read is not shown whole, but what is open, or where something moves.
 */
function FitToFrame({ layout, chosen }: { layout: Layout; chosen: string | null }) {
  const width = useStore((store) => store.width);
  const height = useStore((store) => store.height);
  const { fitView, setCenter } = useReactFlow();
  const newest = useRef({ layout, chosen });
  useEffect(() => {
    newest.current = { layout, chosen };
  });
  useEffect(() => {
    if (!width || !height) return;
    const { current } = newest;
    const { steps, frames } = current.layout;
    const isRun = steps.some(({ step, bundle }) => (bundle ?? step).state);
    const zoom = Math.min(width / current.layout.width, height / current.layout.height) / 1.1;
    const open =
      steps.find(({ step }) => step.address === current.chosen) ??
      frames.find(({ kind, part }) => kind === "each" && part.address === current.chosen);
    if (zoom >= SMALLEST[isRun ? "run" : "plan"]) void fitView(FIT);
    else if (open) {
      // Of what is wider than the frame, its begin is shown.
      const half = Math.min(open.width, width / NEAR - 40) / 2;
      void setCenter(open.x + half, open.y + open.height / 2, { zoom: NEAR });
    } else {
      void fitView({ ...FIT, nodes: focusOf(current.layout, FOCUS).map((id) => ({ id })) });
    }
  }, [width, height, fitView, setCenter]);
  return null;
}
