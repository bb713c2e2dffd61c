import "uplot/dist/uPlot.min.css";

import { useComputedColorScheme } from "@mantine/core";
import { useEffect, useRef } from "react";
import uPlot from "uplot";

import classes from "./MinuteChart.module.css";

export interface Series {
  /** The field of each minute that is drawn. */
  name: string;
  label: string;
  dye: string;
  /** The field whose number is told under the pointer; what is drawn, unless given. */
  told?: string;
}

/** So many seconds are shown at least. */
const SHORTEST = 600;

interface Props {
  /** By minute, oldest first; `at` is when each begins. */
  minutes: ({ at: string } & { [name: string]: number | null | string })[];
  /** Bars stand in front of each other: the first is the farthest. */
  series: Series[];
  kind: "bars" | "lines";
  /** What is read to those who do not see it. */
  label: string;
  height?: number;
  /** What numbers are of: " s". */
  unit?: string;
}

/** Something by minute, as bars or as lines that change in steps. */
export function MinuteChart({ minutes, series, kind, label, height = 150, unit = "" }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<uPlot | null>(null);
  const scheme = useComputedColorScheme("light");
  // A line goes on to the end of its last minute.
  const points = kind === "lines" ? [...minutes, ...minutes.slice(-1)] : minutes;
  const times = points.map(
    ({ at }, index) => Date.parse(at) / 1000 + 60 * +(index >= minutes.length),
  );
  const data = [
    times,
    ...series.map(({ name }) => points.map((one) => numberOf(one[name]))),
  ] as uPlot.AlignedData;
  const newest = useRef(data);
  const told = useRef(minutes);
  // As text, since its parts are new objects each time; it is drawn anew when this changes.
  const drawn = JSON.stringify({ series, kind, height, unit, scheme } satisfies Drawn);
  useEffect(() => {
    newest.current = data;
    told.current = minutes;
    chart.current?.setData(data);
  });
  useEffect(() => {
    const element = box.current;
    if (!element) return undefined;
    const numberAt = (name: string, index: number | null) =>
      index === null ? null : numberOf(told.current[index]?.[name]);
    const options = optionsOf(element, JSON.parse(drawn) as Drawn, numberAt);
    const made = new uPlot(options, newest.current, element);
    chart.current = made;
    const watcher = new ResizeObserver(() =>
      made.setSize({ width: element.clientWidth, height: options.height }),
    );
    watcher.observe(element);
    return () => {
      watcher.disconnect();
      made.destroy();
      chart.current = null;
    };
  }, [drawn]);
  return <div ref={box} role="img" aria-label={label} className={classes.chart} />;
}

/** What a chart is drawn by, but for its numbers. */
interface Drawn {
  series: Series[];
  kind: Props["kind"];
  height: number;
  unit: string;
  /** Light or dark, which its dyes depend on. */
  scheme: string;
}

function optionsOf(
  element: HTMLElement,
  { series, kind, height, unit }: Drawn,
  numberAt: (name: string, index: number | null) => number | null,
): uPlot.Options {
  const style = getComputedStyle(element);
  const value = (name: string) => style.getPropertyValue(name).trim();
  const axis = {
    stroke: value("--faded"),
    font: "11px 'Inter Variable', sans-serif",
    grid: { stroke: value("--edge"), width: 1 },
    ticks: { show: false },
  };
  const path =
    kind === "bars"
      ? uPlot.paths.bars?.({ size: [0.75, 16] })
      : uPlot.paths.stepped?.({ align: 1 });
  return {
    width: element.clientWidth,
    height,
    legend: { live: true },
    cursor: { y: false, drag: { x: false, y: false } },
    scales: {
      x: { range: (_, first, last) => [Math.min(first, last - SHORTEST), last] },
      y: { range: (_, __, max) => [0, Math.max(max * 1.1, unit ? 0.001 : 1)] },
    },
    axes: [
      {
        ...axis,
        size: 26,
        grid: { show: false },
        values: (_, times) => times.map(clock),
        space: 70,
      },
      {
        ...axis,
        size: 52,
        incrs: unit
          ? undefined
          : [1, 2, 5, 10, 20, 50, 100, 200, 500, 1e3, 2e3, 5e3, 1e4, 1e5, 1e6],
        values: (_, some) => some.map((one) => one.toLocaleString("en") + unit),
      },
    ],
    series: [
      { label: "at", value: (_, time) => (time ? clock(time) : "–") },
      ...series.map(({ name, label, dye, told = name }) => ({
        label,
        stroke: value(`--dye-${dye}`),
        fill: kind === "bars" ? value(`--dye-${dye}`) : undefined,
        width: kind === "bars" ? 0 : 2,
        paths: path,
        points: { show: false },
        value: (_: uPlot, __: number, ___: number, index: number | null) => {
          const one = numberAt(told, index);
          return one === null ? "–" : one.toLocaleString("en") + unit;
        },
      })),
    ],
  };
}

function numberOf(value: number | null | string | undefined): number | null {
  return typeof value === "number" ? value : null;
}

/** Hours and minutes in the viewer's zone. */
function clock(seconds: number): string {
  return new Date(seconds * 1000).toLocaleTimeString(undefined, {
    hour: "2-digit",
    minute: "2-digit",
  });
}
