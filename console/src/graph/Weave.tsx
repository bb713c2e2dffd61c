import "@xyflow/react/dist/style.css";

import { Button, useComputedColorScheme } from "@mantine/core";
import {
  MiniMap,
  Panel,
  ReactFlow,
  ReactFlowProvider,
  useReactFlow,
  useStore,
} from "@xyflow/react";
import { useCallback, useEffect, useMemo, useRef, useState, type KeyboardEvent } from "react";

import type { EachPart, Hold, Part } from "../api/types";
import { spell } from "../components/durations";
import { foldAlike } from "./similarParts";
import { dyeOfCounts } from "./dyes";
import { FrameNode } from "./FrameNode";
import { focusOf, layOut, type Layout, type PlacedStep } from "./layout";
import { Legend } from "./Legend";
import { tellingPath } from "./longestPath";
import { Drawing, type WeaveNode } from "./graphNodes";
import { PictureNode } from "./Picture";
import { ThreadEdge } from "./ThreadEdge";
import { StepNode } from "./StepNode";
import { walk, type Way } from "./arrowKeys";
import classes from "./Weave.module.css";

const nodeTypes = { step: StepNode, frame: FrameNode, picture: PictureNode };
const edgeTypes = { thread: ThreadEdge };
/** Room at the sides in pixels: above are the legend and the zoom. */
const ROOM = { top: 44, right: 20, bottom: 16, left: 20 };
const FIT = {
  maxZoom: 1.25,
  padding: {
    top: `${ROOM.top}px`,
    right: `${ROOM.right}px`,
    bottom: `${ROOM.bottom}px`,
    left: `${ROOM.left}px`,
  },
} as const;
/** The smallest zoom at which a graph is shown whole: that of a run is to be read. */
const SMALLEST = { run: 0.55, plan: 0.5 };
/** How near one that would be smaller is shown at least. */
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

/** What a box shows at a zoom: no letter is ever smaller than ten pixels. */
const LEVELS = [
  [0.87, "all"],
  [0.63, "counts"],
  [0.46, "name"],
] as const;

function levelOf(zoom: number): string {
  return LEVELS.find(([from]) => zoom >= from)?.[1] ?? "tile";
}

interface Props {
  /** The parts of a run with their states, or of a plan. */
  graph: Part;
  /** Address of the step or each that is open; none is null. */
  chosen: string | null;
  /** What holds the run up, and where; null if nothing does. */
  hold: Hold | null;
  /** Called with a step's address when it is to be opened. */
  onStep: (address: string) => void;
  /** Called with an each's address when its items are to be listed. */
  onEach: (address: string) => void;
  /** Called with an item's address when its parts are to be shown. */
  onItem: (address: string) => void;
  /** Called with the height in pixels that the graph needs at its width. */
  onHeight?: (pixels: number) => void;
}

/** The graph of a run: threads through its steps, in the dyes of their states. */
export function Weave(props: Props) {
  return (
    <ReactFlowProvider>
      <Flow {...props} />
    </ReactFlowProvider>
  );
}

function Flow({ graph, chosen, hold, onStep, onEach, onItem, onHeight }: Props) {
  const scheme = useComputedColorScheme("light");
  const frame = useRef<HTMLDivElement>(null);
  const [drawing] = useState(() => new Drawing());
  const [current, setCurrent] = useState<string | null>(null);
  const [opened, setOpened] = useState<ReadonlySet<string>>(new Set());
  const room = useStore((store) => (isPlan(graph) ? store.width : 0));
  const layout = useMemo(
    () => layOut(foldAlike(graph, opened), room ? rowWidthFor(room) : undefined),
    [graph, opened, room],
  );
  const path = useMemo(() => tellingPath(layout), [layout]);
  const far = useStore((store) => store.transform[2] < FAR);
  const level = useStore((store) => levelOf(store.transform[2]));
  const { zoomIn, zoomOut, fitView, getNode, getZoom, setCenter } = useReactFlow<WeaveNode>();
  const whole = useStore(({ transform: [x, y, zoom], width, height }) => {
    const [right, bottom] = [x + layout.width * zoom, y + layout.height * zoom];
    return x > -20 && y > -20 && right < width + 20 && bottom < height + 20;
  });
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
        : drawing.nodesOf(layout, path, chosen, current, onItem, hold),
    [drawing, pictured, layout, path, chosen, current, onItem, onNear, hold],
  );
  const edges = useMemo(
    () => (pictured ? [] : drawing.edgesOf(layout, path)),
    [drawing, pictured, layout, path],
  );

  const open = (node: WeaveNode) => {
    if (node.type === "picture") {
      const address = focusOf(layout);
      const moving = layout.steps.find(({ step }) => step.address === address);
      if (moving) onNear(moving);
    } else if (node.type === "step") {
      const { step, bundle } = layout.steps.find((one) => one.step.address === node.id) ?? {};
      if (step?.alike) unfold(step);
      else if (bundle) openEach(bundle);
      else onStep(node.id);
    } else if (node.type === "frame" && node.data.part.kind === "each") {
      openEach(node.data.part);
    }
  };
  const unfold = ({ address }: Part) => setOpened(new Set([...opened, address]));
  const openEach = (each: EachPart) => {
    if (each.alike) unfold(each);
    else if (each.state) onEach(each.address);
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
      data-level={level}
      ref={frame}
      onKeyDownCapture={onKey}
    >
      <ReactFlow
        nodes={nodes}
        edges={edges}
        nodeTypes={nodeTypes}
        edgeTypes={edgeTypes}
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
        <FitToFrame layout={layout} chosen={chosen} opened={opened} onHeight={onHeight} />
        {!whole && (
          <MiniMap
            pannable
            position="bottom-left"
            nodeColor={(node) => `var(--dye-${mapDye(node as WeaveNode)})`}
            ariaLabel="map of the graph"
            style={{ width: 128, height: 92 }}
          />
        )}
        <Panel position="top-right" className={classes.tools}>
          <Button.Group aria-label="zoom">
            <Tool label="farther" onClick={() => void zoomOut()}>
              −
            </Tool>
            <Tool label="fit the graph into the frame" onClick={() => void fitView(FIT)}>
              Fit
            </Tool>
            <Tool label="nearer" onClick={() => void zoomIn()}>
              +
            </Tool>
          </Button.Group>
          <Legend />
        </Panel>
        {opened.size > 0 && (
          <Panel position="top-left">
            <Button size="compact-xs" variant="default" onClick={() => setOpened(new Set())}>
              Fold like branches
            </Button>
          </Panel>
        )}
        {path && spentOn(graph) > 0 && (
          <Panel position="bottom-left" className={classes.pathNote}>
            <span className={classes.sample} data-longest /> longest path {spell(path.seconds)},{" "}
            {Math.round((100 * path.seconds) / spentOn(graph))}% of the time
          </Panel>
        )}
      </ReactFlow>
    </div>
  );
}

interface ToolProps {
  label: string;
  onClick: () => void;
  children: string;
}

function Tool({ label, onClick, children }: ToolProps) {
  return (
    <Button variant="default" size="compact-xs" title={label} aria-label={label} onClick={onClick}>
      {children}
    </Button>
  );
}

/** Whether a graph is of a plan, whose parts have no states. */
function isPlan(graph: Part): boolean {
  return graph.state === undefined;
}

/** How wide a row of a plan may be, so that names can be read in a frame of some width. */
function rowWidthFor(width: number): number {
  return Math.max(640, (width - ROOM.left - ROOM.right) / SMALLEST.plan);
}

/** The dye of a node on the map; frames are only ground. */
function mapDye(node: WeaveNode): string {
  if (node.type !== "step") return "skipped";
  const { step } = node.data;
  return step.state ?? (step.counts ? dyeOfCounts(step.counts) : "waiting");
}

/** The middle of a view of some size near a place, so that it does not leave the graph. */
function within(place: number, view: number, whole: number): number {
  const margin = 24;
  if (view >= whole + 2 * margin) return whole / 2;
  return Math.min(Math.max(place, view / 2 - margin), whole - view / 2 + margin);
}

/** How long a run took, or what of it is shown; 0 while it goes on. */
function spentOn({ started_at, ended_at }: Part): number {
  return started_at && ended_at ? (Date.parse(ended_at) - Date.parse(started_at)) / 1000 : 0;
}

interface FitProps {
  layout: Layout;
  chosen: string | null;
  /** Which branches that are alike are shown one by one. */
  opened: ReadonlySet<string>;
  onHeight?: (pixels: number) => void;
}

/**
 * Fits the graph anew when its frame becomes wider or narrower, as when a step is opened, or a pile. One that
 * would be too small to read is not shown whole, but what is open, or where something moves.
 */
function FitToFrame({ layout, chosen, opened, onHeight }: FitProps) {
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
    const [wide, high] = [width - ROOM.left - ROOM.right, height - ROOM.top - ROOM.bottom];
    const zoom = Math.min(wide / current.layout.width, high / current.layout.height);
    const open =
      steps.find(({ step }) => step.address === current.chosen) ??
      frames.find(({ kind, part }) => kind === "each" && part.address === current.chosen);
    if (zoom >= SMALLEST[isRun ? "run" : "plan"]) {
      void fitView(FIT);
      return;
    }
    const focus = open ?? steps.find(({ step }) => step.address === focusOf(current.layout));
    const whole = wide / current.layout.width; // nothing is cut at the sides
    const near = whole >= SMALLEST.run ? Math.min(1, whole) : NEAR;
    // A wide part shows its left end; the view never leaves the graph.
    const half = Math.min(focus?.width ?? 0, width / near - 40) / 2;
    const aside = (ROOM.right - ROOM.left) / 2 / near;
    const x = within((focus?.x ?? 0) + half, width / near, current.layout.width) + aside;
    const above = (ROOM.top - ROOM.bottom) / 2 / near;
    const y = within((focus?.y ?? 0) + half / 2, high / near, current.layout.height) - above;
    void setCenter(x, y, { zoom: near });
  }, [width, height, opened, fitView, setCenter]);
  useEffect(() => {
    if (!width) return;
    const wide = width - ROOM.left - ROOM.right;
    const zoom = Math.max(SMALLEST.run, Math.min(FIT.maxZoom, wide / layout.width));
    onHeight?.(Math.ceil(layout.height * zoom) + ROOM.top + ROOM.bottom);
  }, [width, layout, onHeight]);
  return null;
}
