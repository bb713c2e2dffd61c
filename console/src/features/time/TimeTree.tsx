import { Text } from "@mantine/core";
import { useState } from "react";

import type { AttemptTimes, Times, TimesRow, WaitKind } from "../../api/types";
import { spell, useNow } from "../../components/durations";
import type { Path } from "../../graph/longestPath";
import { useOutliers } from "../../queries/runs";
import { TimeAxis } from "./TimeAxis";
import { pathThrough, type Stroke } from "./pathThrough";
import classes from "./TimeTree.module.css";

interface Props {
  run: number;
  times: Times;
  /** By address of a step the pool that it takes its place from. */
  pools: ReadonlyMap<string, string>;
  /** The chain that the time went into; null where none explains it. */
  path: Path | null;
  chosen: string | null;
  /** Called with the address of a step. */
  onStep: (address: string) => void;
  /** Called with the address of an each whose items are to be listed. */
  onEach: (address: string) => void;
}

interface Span {
  from: number;
  to: number;
}

/** Where the time went, by the parts of the plan: a row each, over all items. */
export function TimeTree({ run, times, pools, path, chosen, onStep, onEach }: Props) {
  const [open, setOpen] = useState<string | null>(null);
  if (!times.from || !times.to) return null;
  const span = { from: Date.parse(times.from), to: Date.parse(times.to) };
  const seconds = Math.max(0.001, (span.to - span.from) / 1000);
  const inside = (row: TimesRow) =>
    times.rows.find((one) => one.kind === "each" && row.address.startsWith(`${one.address}/`));
  const strokes = pathThrough(times.rows, path, span);
  return (
    <div className={classes.tree} role="region" aria-label="time by part" tabIndex={0}>
      <div className={classes.axis} aria-hidden>
        <TimeAxis seconds={seconds} />
      </div>
      <div role="list">
        {times.rows.map((row, index) => {
          const each = row.kind === "each" ? row : inside(row);
          const many = each !== undefined && row.attempts > 1;
          const opened = many && open === row.address;
          return (
            <div key={row.address} role="listitem">
              <div className={classes.row} data-chosen={row.address === chosen || undefined}>
                <div className={classes.head} style={{ paddingLeft: 4 + 14 * row.depth }}>
                  <button
                    type="button"
                    className={classes.fold}
                    aria-label={`the slowest of ${row.address}, and what failed`}
                    aria-expanded={opened}
                    hidden={!many}
                    onClick={() => setOpen(opened ? null : row.address)}
                  >
                    {opened ? "▾" : "▸"}
                  </button>
                  <button
                    type="button"
                    className={classes.name}
                    title={row.address}
                    onClick={() => (each ? onEach(each.address) : onStep(row.address))}
                  >
                    {row.label}
                    {row.kind === "each" && <span className={classes.faded}> for each</span>}
                  </button>
                </div>
                <Strip row={row} slices={times.slices} strokes={strokes[index] ?? []} />
                <Sums row={row} rows={times.rows} pools={pools} />
              </div>
              {opened && (
                <Opened
                  run={run}
                  row={row}
                  span={span}
                  passing={(strokes[index] ?? []).flatMap((one) => (one.y2 === 1 ? [one.x2] : []))}
                  onStep={onStep}
                  onAll={() => onEach((each ?? row).address)}
                />
              )}
            </div>
          );
        })}
      </div>
    </div>
  );
}

const SHARED = { preserveAspectRatio: "none", className: classes.strip };

/** How many ran at once, how many waited behind that and for what, and where some failed. */
function Strip({ row, slices, strokes }: { row: TimesRow; slices: number; strokes: Stroke[] }) {
  const most = Math.max(1, ...row.running);
  const waits = stacked(row, slices);
  const mostWaiting = Math.max(most, ...(waits[0]?.sums ?? []));
  // The height shows the share of failures; a small share stays visible.
  const failed = row.failing.map((share, at) =>
    share > 0 ? Math.max(0.15 * most, share * (row.running[at] ?? 0)) : 0,
  );
  const words = `at most ${Math.round(most).toLocaleString("en")} at once`;
  return (
    <svg {...SHARED} viewBox={`0 0 ${slices} 1`} role="img" aria-label={words}>
      <title>{words}</title>
      {waits.map(({ kind, sums }) => (
        <path key={kind} data-wait={kind} className={classes.waiting} d={area(sums, mostWaiting)} />
      ))}
      <path className={classes.running} d={area(row.running, most)} />
      <path className={classes.failing} d={area(failed, most)} />
      {strokes.map(({ x1, y1, x2, y2 }) => (
        <line
          key={`${x1} ${y1} ${y2}`}
          className={classes.path}
          x1={x1 * slices}
          x2={x2 * slices}
          y1={y1}
          y2={y2}
        />
      ))}
    </svg>
  );
}

/** What waited, one reason upon the other; the whole comes first, to be drawn behind. */
function stacked(row: TimesRow, slices: number): { kind: WaitKind; sums: number[] }[] {
  let below = new Array<number>(slices).fill(0);
  const layers = WAITED.flatMap(([kind]) => {
    const some = row.waiting[kind];
    if (!some) return [];
    below = below.map((one, at) => one + (some[at] ?? 0));
    return [{ kind, sums: below }];
  });
  return layers.reverse();
}

interface OpenedProps {
  run: number;
  row: TimesRow;
  span: Span;
  /** Where along the time the longest path goes on to the rows below. */
  passing: number[];
  onStep: (address: string) => void;
  onAll: () => void;
}

/** The slowest attempts of a row, the first that failed, and the way to all items. */
function Opened({ run, row, span, passing, onStep, onAll }: OpenedProps) {
  const found = useOutliers(run, row.address);
  const { slowest = [], failed = [] } = found.data ?? {};
  const beyond = failed.filter((one) => !slowest.some(({ id }) => id === one.id));
  return (
    <div role="list" aria-label={`stands out in ${row.address}`}>
      {slowest.map((one) => (
        <One key={one.id} one={one} span={span} passing={passing} onStep={onStep} />
      ))}
      {beyond.map((one) => (
        <One key={one.id} one={one} span={span} passing={passing} onStep={onStep} />
      ))}
      <button type="button" className={classes.all} onClick={onAll}>
        all items
      </button>
    </div>
  );
}

interface OneProps extends Pick<OpenedProps, "span" | "passing" | "onStep"> {
  one: AttemptTimes;
}

/** One attempt, at its place in the time of the run. */
function One({ one, span, passing, onStep }: OneProps) {
  const now = useNow();
  const from = Date.parse(one.begun_at ?? one.handed_at);
  const to = one.ended_at ? Date.parse(one.ended_at) : now;
  const width = span.to - span.from || 1;
  const bad = ["failed", "refused", "lost"].includes(one.outcome ?? "");
  const name = decodeURIComponent(one.address) + (one.number > 1 ? `#${one.number}` : "");
  return (
    <div role="listitem" className={classes.row} data-one>
      <div className={classes.head}>
        <button
          type="button"
          className={classes.name}
          title={name}
          onClick={() => onStep(one.address)}
        >
          {name}
        </button>
      </div>
      <svg {...SHARED} viewBox={`0 0 ${width} 1`} aria-hidden>
        <rect
          className={bad ? classes.failing : classes.running}
          x={from - span.from}
          width={Math.max(width / 300, to - from)}
          y={0.25}
          height={0.5}
        />
        {passing.map((x) => (
          <line key={x} className={classes.path} x1={x * width} x2={x * width} y1={0} y2={1} />
        ))}
      </svg>
      <Text size="xs" className={classes.sums}>
        <strong>{spell((to - from) / 1000)}</strong> {one.outcome?.replace("_", " ") ?? "running"}
        <span className={classes.faded}> · on {one.worker}</span>
      </Text>
    </div>
  );
}

/** The outline of a row of numbers; a small number stays visible. */
function area(numbers: number[], most: number): string {
  if (!numbers.some(Boolean)) return "";
  const height = (one: number) => (one > 0 ? Math.max(0.08, one / most) : 0);
  const top = numbers.map((one, at) => {
    const y = (1 - height(one)).toFixed(3);
    return `L${at} ${y}L${at + 1} ${y}`;
  });
  return `M0 1${top.join("")}L${numbers.length} 1Z`;
}

const WAITED: [WaitKind, string][] = [
  ["pool", "for pools"],
  ["worker", "for workers"],
  ["back_off", "backing off"],
  ["rest", "resting"],
];

interface SumsProps {
  row: TimesRow;
  rows: TimesRow[];
  pools: ReadonlyMap<string, string>;
}

/** The steps that an item runs once: those of an each in it run many times. */
function stepsOfItem(inside: TimesRow[]): TimesRow[] {
  const eaches = inside.filter(({ kind }) => kind === "each");
  return inside.filter(
    ({ kind, address }) =>
      kind === "step" && !eaches.some((each) => address.startsWith(`${each.address}/`)),
  );
}

/** What an attempt of a step took, or all of an item of an each. */
function Sums({ row, rows, pools }: SumsProps) {
  const inside = rows.filter(({ address }) => address.startsWith(`${row.address}/`));
  const isEach = row.kind === "each";
  const counted = isEach ? stepsOfItem(inside) : [row];
  // As many as the step of an item has that ran most often.
  const count = Math.max(1, ...counted.map((one) => one.attempts));
  const names = new Set(
    [row, ...inside].flatMap(({ address, waited }) =>
      waited.pool > 0 ? (pools.get(address) ?? []) : [],
    ),
  );
  const most = Math.round(Math.max(1, ...row.running));
  const waits = WAITED.filter(([kind]) => row.waited[kind] >= 0.001);
  const ofItem = counted.length > 0 ? " an item" : " in all";
  const each = isEach ? ofItem : row.attempts > 1 ? " each" : "";
  const longest = !isEach && row.attempts > 1 ? `, longest ${spell(row.longest)}` : "";
  const wordsOf = (kind: WaitKind, words: string) =>
    kind === "pool" && names.size === 1 ? `for ${[...names].join("")}` : words;
  const all =
    `${row.attempts.toLocaleString("en")} attempts ran ${spell(row.ran)} in all` +
    waits
      .map(([kind, words]) => `, waited ${spell(row.waited[kind])} ${wordsOf(kind, words)} in all`)
      .join("");
  return (
    <Text size="xs" className={classes.sums} title={all}>
      <strong>{spell(row.ran / count)}</strong>
      {each}
      {longest}
      {most > 1 && (
        <span className={classes.faded}>, up to {most.toLocaleString("en")} at once</span>
      )}
      {row.failed > 0 && (
        <span className="dyed" data-dye="failed">
          , {row.failed.toLocaleString("en")} failed
        </span>
      )}
      {waits.length > 0 && (
        <span className={classes.faded}>
          {" · waited "}
          {waits
            .map(([kind, words]) => `${spell(row.waited[kind] / count)} ${wordsOf(kind, words)}`)
            .join(", ")}
        </span>
      )}
    </Text>
  );
}
