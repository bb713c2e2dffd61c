import { Button, Group, SegmentedControl, Text } from "@mantine/core";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState, type PointerEvent, type ReactNode } from "react";

import type { AttemptTimes, Part, StepState, Times, WaitKind } from "../../api/types";
import { NextPageButton } from "../../components/NextPageButton";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { spell, useNow } from "../../components/durations";
import { layOut } from "../../graph/layout";
import { tellingPath, type Path } from "../../graph/longestPath";
import { useAttempts, useGraph, useTimes } from "../../queries/runs";
import { rowsBySteps, rowsByWorkers, sumsOf, type Piece, type Row, type Sums } from "./attemptBars";
import { TimeAxis } from "./TimeAxis";
import { TimeTree } from "./TimeTree";
import classes from "./TimeView.module.css";

interface Props {
  run: number;
  /** The item whose attempts are shown; empty for the whole run. */
  item: string;
  /** Address of the step that is open. */
  chosen: string | null;
  /** Called with the address of a step that is to be opened. */
  onStep: (address: string) => void;
  /** Called with the address of an each whose items are to be listed. */
  onEach: (address: string) => void;
}

/** From so many attempts on they are shown by part, unless another way is chosen. */
const MANY = 60;

type By = "part" | "step" | "worker";
interface Span {
  from: number;
  to: number;
}

/** So many pages are fetched by themselves. */
const PAGES = 5;
const LANE = 16;
const WORDS: Record<string, string> = {
  pool: "waits for a pool",
  worker: "waits for a worker",
  back_off: "backs off",
  rest: "rests",
};

/** Where a run's time went: its attempts as bars, by step or by worker, and what they waited for. */
export function TimeView({ run, item, chosen, onStep, onEach }: Props) {
  const times = useTimes(run);
  const graph = useGraph(run, "");
  const path = useMemo(() => (graph.data ? tellingPath(layOut(graph.data)) : null), [graph.data]);
  const pools = useMemo(() => poolsIn(graph.data), [graph.data]);
  const [asked, setBy] = useState<By | null>(null);
  const many = !item && (times.data?.attempts ?? 0) > MANY;
  const by = asked ?? (many ? "part" : "step");
  if (times.error) return <ErrorNote error={times.error} />;
  if (!times.data) return <Loading />;
  const choice = (
    <SegmentedControl
      size="xs"
      aria-label="Rows"
      value={by}
      onChange={(value) => setBy(value as By)}
      data={[
        ...(item ? [] : [{ value: "part", label: "by part" }]),
        { value: "step", label: "by step" },
        { value: "worker", label: "by worker" },
      ]}
    />
  );
  if (by !== "part" || !times.data.rows.length) {
    return (
      <Attempts run={run} item={item} chosen={chosen} by={by} choice={choice} onStep={onStep} />
    );
  }
  return (
    <div className={classes.view} data-testid="time">
      <Group gap="sm" px="sm" py={7}>
        {choice}
        <Text size="xs" c="dimmed">
          {times.data.attempts.toLocaleString("en")} attempts; a row is as high as its most at once
        </Text>
        <Keys times={times.data} path={path} />
      </Group>
      <TimeTree
        run={run}
        times={times.data}
        pools={pools}
        path={path}
        chosen={chosen}
        onStep={onStep}
        onEach={onEach}
      />
    </div>
  );
}

/** By address of a step, without the keys of items, the pool that it takes its place from. */
function poolsIn(part: Part | undefined): Map<string, string> {
  if (!part) return new Map();
  const inner = part.kind === "step" ? [] : part.kind === "each" ? [part.do] : part.parts;
  const all = [...inner, ...Object.values(part.follow_ups ?? {})].flatMap((one) => [
    ...poolsIn(one),
  ]);
  const own = part.kind === "step" && part.rules?.pool ? String(part.rules.pool) : null;
  return new Map(own === null ? all : [...all, [part.address, own]]);
}

function Loading() {
  return (
    <Text size="sm" c="dimmed" p="md" role="status">
      The times of its attempts are read…
    </Text>
  );
}

const WAITS: [WaitKind, StepState, string][] = [
  ["pool", "ready", "for pools"],
  ["worker", "waiting", "for workers"],
  ["back_off", "backing_off", "backing off"],
  ["rest", "resting", "resting"],
];

/** What the colours behind the rows stand for, and the line through them. */
function Keys({ times, path }: { times: Times; path: Path | null }) {
  const there = WAITS.filter(([kind]) => times.rows.some((row) => row.waiting[kind]));
  const seconds =
    times.from && times.to ? (Date.parse(times.to) - Date.parse(times.from)) / 1000 : 0;
  return (
    <Group gap="sm">
      <Text size="xs" component="span">
        <span className={classes.key} data-dye="running" />
        ran
      </Text>
      {times.rows.some((row) => row.failed > 0) && (
        <Text size="xs" component="span">
          <span className={classes.key} data-dye="failed" />
          failed
        </Text>
      )}
      {there.map(([kind, dye, words]) => (
        <Text size="xs" key={kind} component="span">
          <span className={`${classes.key} ${classes.pale}`} data-dye={dye} />
          {words}
        </Text>
      ))}
      {path && seconds > 0 && (
        <Text size="xs" component="span">
          <span className={classes.line} />
          longest path {spell(path.seconds)}, {Math.round((100 * path.seconds) / seconds)}% of the
          time
        </Text>
      )}
    </Group>
  );
}

interface AttemptsProps extends Omit<Props, "onEach"> {
  by: By;
  /** By what rows are chosen. */
  choice: ReactNode;
}

/** Every attempt as a bar. */
function Attempts({ run, item, chosen, by, choice, onStep }: AttemptsProps) {
  const found = useAttempts(run, item);
  const { hasNextPage, isFetching, fetchNextPage, data } = found;
  const [zoom, setZoom] = useState<Span | null>(null);
  const now = useNow();
  const pages = data?.pages.length ?? 0;
  useEffect(() => {
    if (hasNextPage && !isFetching && pages < PAGES) void fetchNextPage();
  }, [hasNextPage, isFetching, pages, fetchNextPage]);
  const attempts = useMemo(() => data?.pages.flatMap((page) => page.attempts) ?? [], [data]);
  const open = attempts.some((one) => !one.ended_at);
  const until = open ? now : 0;
  const steps = useMemo(() => rowsBySteps(attempts, until), [attempts, until]);
  const rows = useMemo(
    () => (by === "worker" ? rowsByWorkers(attempts, until) : steps),
    [by, steps, attempts, until],
  );
  const whole = useMemo(() => spanOf(steps), [steps]);
  if (found.error) return <ErrorNote error={found.error} />;
  if (!data) return <Loading />;
  if (!attempts.length || !whole) {
    return (
      <Empty title="Nothing has begun">
        Attempts are shown here as bars, with what they waited for.
      </Empty>
    );
  }
  const span = zoom ?? whole;
  return (
    <div className={classes.view} data-testid="time">
      <Group gap="sm" justify="space-between" px="sm" py={7}>
        {choice}
        <SumsNote sums={sumsOf(steps)} />
        <Group gap={6}>
          <Button size="compact-xs" variant="default" onClick={() => setZoom(scaled(span, 0.5))}>
            Nearer
          </Button>
          <Button
            size="compact-xs"
            variant="default"
            disabled={!zoom}
            onClick={() => setZoom(within(scaled(span, 2), whole))}
          >
            Farther
          </Button>
          <Button
            size="compact-xs"
            variant="default"
            disabled={!zoom}
            onClick={() => setZoom(null)}
          >
            All
          </Button>
        </Group>
      </Group>
      <Bars
        rows={rows}
        span={span}
        start={whole.from}
        chosen={chosen}
        onStep={onStep}
        onZoom={setZoom}
      />
      <Group px="sm" py={5} gap="md">
        <Text size="xs" c="dimmed">
          {attempts.length.toLocaleString("en")} attempts{hasNextPage && ", the first"} · drag over
          the bars to zoom
        </Text>
        {pages >= PAGES && <NextPageButton pages={found} label="More attempts" />}
      </Group>
    </div>
  );
}

function SumsNote({ sums }: { sums: Sums }) {
  const said: [StepState, string, number][] = [
    ["running", "ran", sums.ran],
    ["ready", "waited for pools", sums.waits.pool],
    ["waiting", "for workers", sums.waits.worker],
    ["backing_off", "backed off", sums.waits.back_off],
    ["resting", "rested", sums.waits.rest],
  ];
  return (
    <Group gap="md" data-testid="sums">
      {said
        .filter(([, , seconds], index) => index === 0 || seconds > 0)
        .map(([dye, words, seconds]) => (
          <Text size="xs" key={words} component="span">
            <span
              className={classes.key}
              data-dye={dye}
              data-wait={dye === "running" ? undefined : dye}
            />
            {words} {spell(seconds)}
          </Text>
        ))}
    </Group>
  );
}

interface BarsProps {
  rows: Row[];
  span: Span;
  /** When the run's first attempt could begin; the axis counts from there. */
  start: number;
  chosen: string | null;
  onStep: (address: string) => void;
  onZoom: (span: Span) => void;
}

function Bars({ rows, span, start, chosen, onStep, onZoom }: BarsProps) {
  const box = useRef<HTMLDivElement>(null);
  // What it gives is used here only, and not kept.
  // eslint-disable-next-line react-hooks/incompatible-library
  const list = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (index) => (rows[index]?.lanes ?? 1) * LANE + 8,
    overscan: 12,
  });
  useEffect(() => list.measure(), [list, rows]);
  const brush = useBrush(span, onZoom);
  return (
    <>
      <div className={classes.axis} aria-hidden>
        <TimeAxis seconds={(span.to - span.from) / 1000} from={(span.from - start) / 1000} />
      </div>
      <div className={classes.box} ref={box} tabIndex={0} role="region" aria-label="attempts">
        <div
          className={classes.rows}
          style={{ height: list.getTotalSize() }}
          role="list"
          {...brush.handlers}
        >
          {list.getVirtualItems().map(({ index, start: top, size }) => {
            const row = rows[index];
            return (
              row && (
                <div
                  key={row.name}
                  role="listitem"
                  className={classes.row}
                  data-chosen={row.name === chosen || undefined}
                  style={{ transform: `translateY(${top}px)`, height: size }}
                >
                  <RowView row={row} span={span} onStep={onStep} />
                </div>
              )
            );
          })}
          {brush.shade && (
            <div className={classes.plot} aria-hidden>
              <div className={classes.shade} style={brush.shade} />
            </div>
          )}
        </div>
      </div>
    </>
  );
}

function RowView({ row, span, onStep }: { row: Row; span: Span; onStep: (a: string) => void }) {
  const isStep = row.pieces.every(({ attempt }) => attempt.address === row.name);
  const label = decodeURIComponent(row.name);
  const width = span.to - span.from || 1;
  return (
    <>
      {isStep ? (
        <button
          type="button"
          className={classes.name}
          title={label}
          onClick={() => onStep(row.name)}
        >
          {label}
        </button>
      ) : (
        <span className={classes.name}>{label}</span>
      )}
      <div className={classes.bars}>
        {row.pieces
          .filter(({ from, to }) => to >= span.from && from <= span.to)
          .map((piece) => (
            <i
              key={`${piece.attempt.id}${piece.wait ?? ""}`}
              className={classes.bar}
              data-dye={piece.dye}
              data-wait={piece.wait === null ? undefined : piece.dye}
              data-attempt={piece.attempt.id}
              title={wordsOf(piece)}
              style={{
                left: `${(100 * (piece.from - span.from)) / width}%`,
                width: `${(100 * (piece.to - piece.from)) / width}%`,
                top: 4 + piece.lane * LANE,
              }}
              onClick={() => onStep(piece.attempt.address)}
            />
          ))}
      </div>
    </>
  );
}

/** "harbours[a]/fetch#2 on worker w: failed, 2.1 s". */
function wordsOf({ attempt, wait, from, to }: Piece): string {
  const what = `${decodeURIComponent(attempt.address)}#${attempt.number}`;
  const took = spell((to - from) / 1000);
  if (wait) {
    const pool = wait === "pool" && attempt.pool ? ` ${attempt.pool}` : "";
    return `${what} ${WORDS[wait]}${pool}, ${took}`;
  }
  return `${what} on worker ${attempt.worker}: ${outcomeOf(attempt)}, ${took}`;
}

function outcomeOf({ outcome }: AttemptTimes): string {
  return outcome ? outcome.replace("_", " ") : "running";
}

/** Dragging over the bars chooses what is zoomed to. */
function useBrush(span: Span, onZoom: (span: Span) => void) {
  const [drag, setDrag] = useState<{ from: number; to: number } | null>(null);
  /** Where along the bars the pointer is, from 0 to 1. */
  const place = (event: PointerEvent<HTMLElement>) => {
    const bars = event.currentTarget.querySelector(`.${classes.bars}`)?.getBoundingClientRect();
    if (!bars?.width) return null;
    return (event.clientX - bars.left) / bars.width;
  };
  const handlers = {
    onPointerDown: (event: PointerEvent<HTMLElement>) => {
      const at = place(event);
      if (at !== null && at >= 0 && event.button === 0) setDrag({ from: at, to: at });
    },
    onPointerMove: (event: PointerEvent<HTMLElement>) => {
      const at = drag && place(event);
      if (drag && at !== null) setDrag({ ...drag, to: Math.min(1, Math.max(0, at)) });
    },
    onPointerUp: () => {
      setDrag(null);
      if (!drag || Math.abs(drag.to - drag.from) < 0.01) return;
      const [a, b] = [Math.min(drag.from, drag.to), Math.max(drag.from, drag.to)];
      const width = span.to - span.from;
      onZoom({ from: span.from + a * width, to: span.from + b * width });
    },
    onPointerLeave: () => setDrag(null),
  };
  const shade = drag &&
    drag.to !== drag.from && {
      left: `${100 * Math.min(drag.from, drag.to)}%`,
      width: `${100 * Math.abs(drag.to - drag.from)}%`,
    };
  return { handlers, shade };
}

function spanOf(rows: Row[]): Span | null {
  let [from, to] = [Infinity, -Infinity];
  for (const { pieces } of rows) {
    for (const piece of pieces) {
      from = Math.min(from, piece.from);
      to = Math.max(to, piece.to);
    }
  }
  return to < from ? null : { from, to: Math.max(to, from + 1) };
}

function scaled({ from, to }: Span, by: number): Span {
  const [middle, half] = [(from + to) / 2, ((to - from) / 2) * by];
  return { from: middle - half, to: middle + half };
}

/** A span inside another; none where it would be all of it. */
function within(span: Span, whole: Span): Span | null {
  const found = { from: Math.max(span.from, whole.from), to: Math.min(span.to, whole.to) };
  return found.from === whole.from && found.to === whole.to ? null : found;
}
