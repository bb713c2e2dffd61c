import { useComputedColorScheme } from "@mantine/core";
import type { Node, NodeProps } from "@xyflow/react";
import { useEffect, useRef, type MouseEvent } from "react";

import { dyeOf, threadId, type Layout, type PlacedStep } from "./layout";
import type { Path } from "./longestPath";
import classes from "./Weave.module.css";

export type PictureNodeType = Node<
  {
    layout: Layout;
    path: Path | null;
    /** Called with the step that is to be seen from near. */
    onNear: (step: PlacedStep) => void;
  },
  "picture"
>;

/** How large the picture is drawn, against the graph; and at most, in pixels. */
const SCALE = 0.35;
const MOST = 8_000;

/** A graph that is too far away to be read, as one picture: its steps as blocks of dye. */
export function PictureNode({ data: { layout, path, onNear } }: NodeProps<PictureNodeType>) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const scheme = useComputedColorScheme("light");
  const scale = Math.min(SCALE, MOST / Math.max(layout.width, layout.height, 1));
  useEffect(() => {
    const element = canvas.current;
    const pen = element?.getContext("2d");
    if (element && pen) draw(element, pen, layout, path, scale);
  }, [layout, path, scale, scheme]);
  const onClick = (event: MouseEvent<HTMLCanvasElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * layout.width;
    const y = ((event.clientY - box.top) / box.height) * layout.height;
    const found = nearest(layout, x, y);
    if (found) onNear(found);
  };
  return (
    <canvas
      ref={canvas}
      className={classes.picture}
      width={Math.ceil(layout.width * scale)}
      height={Math.ceil(layout.height * scale)}
      style={{ width: layout.width, height: layout.height }}
      onClick={onClick}
    />
  );
}

function draw(
  canvas: HTMLCanvasElement,
  pen: CanvasRenderingContext2D,
  layout: Layout,
  path: Path | null,
  scale: number,
): void {
  const style = getComputedStyle(canvas);
  const dyes = new Map<string, string>();
  const colourOf = (name: string) => {
    const known = dyes.get(name) ?? style.getPropertyValue(`--dye-${name}`).trim();
    dyes.set(name, known);
    return known;
  };
  pen.setTransform(scale, 0, 0, scale, 0, 0);
  pen.clearRect(0, 0, layout.width, layout.height);
  pen.fillStyle = style.getPropertyValue("--edge").trim();
  pen.globalAlpha = 0.3;
  for (const { kind, x, y, width, height } of layout.frames) {
    if (kind === "each") pen.fillRect(x, y, width, height);
  }
  pen.globalAlpha = 1;
  const places = new Map(layout.steps.map((one) => [one.step.address, one]));
  for (const thread of layout.threads) {
    const [from, to] = [places.get(thread.from), places.get(thread.to)];
    if (!from || !to) continue;
    pen.strokeStyle = colourOf(dyeOf(from));
    pen.lineWidth = path?.threads.has(threadId(thread)) ? 14 : 6;
    pen.beginPath();
    pen.moveTo(from.x + from.width, from.y + from.height / 2);
    pen.lineTo(to.x, to.y + to.height / 2);
    pen.stroke();
  }
  for (const one of layout.steps) {
    pen.fillStyle = colourOf(dyeOf(one));
    pen.fillRect(one.x, one.y, one.width, one.height);
  }
}

function nearest({ steps }: Layout, x: number, y: number): PlacedStep | null {
  const far = (one: PlacedStep) =>
    Math.hypot(one.x + one.width / 2 - x, one.y + one.height / 2 - y);
  return steps.reduce<PlacedStep | null>((a, b) => (a && far(a) <= far(b) ? a : b), null);
}
