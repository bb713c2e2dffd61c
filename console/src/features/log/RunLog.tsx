import { Group, Text } from "@mantine/core";
import { IconSearch } from "@tabler/icons-react";
import { useLayoutEffect, useRef, useState } from "react";

import type { Run, RunLine } from "../../api/types";
import { NextPageButton } from "../../components/NextPageButton";
import { ErrorNote } from "../../components/ErrorNotes";
import { TypedInput } from "../../components/TypedInput";
import { useLiveLines, useRunLines } from "../../queries/logLines";
import { piecesOf } from "../steps/ansi";
import { Line } from "../steps/LogLine";
import classes from "./RunLog.module.css";

interface Props {
  run: Run;
  /** The item whose steps are meant; empty for the whole run. */
  item: string;
  text: string;
  onText: (text: string) => void;
  onStep: (address: string) => void;
}

const NEAR = 40;

/** The lines of all steps of a run, in the order in which they came: the newest, and new ones. */
export function RunLog({ run, item, text, onText, onStep }: Props) {
  const found = useRunLines(run.number, item, text);
  const live = run.ended_at === null;
  const [newest] = found.data?.pages ?? [];
  useLiveLines(run, item, text, newest?.end ?? null);
  const lines = [...(found.data?.pages ?? [])].reverse().flatMap((page) => page.lines);
  return (
    <div className={classes.page}>
      <Group gap="sm" className={classes.bar}>
        <TypedInput
          label="Search the log of the run"
          placeholder="search all steps"
          width={240}
          icon={<IconSearch size={15} />}
          value={text}
          onSettled={onText}
        />
        <Text size="xs" c="dimmed" role="status">
          {found.isSuccess && words(lines.length, text, found.hasNextPage, live)}
        </Text>
        <NextPageButton pages={found} label={text ? "Search earlier lines" : "Earlier lines"} />
      </Group>
      {found.error && <ErrorNote error={found.error} />}
      <Lines key={`${item} ${text}`} lines={lines} onStep={onStep} />
    </div>
  );
}

function words(count: number, text: string, more: boolean, live: boolean): string {
  const many = `${count.toLocaleString("en")} ${count === 1 ? "line" : "lines"}`;
  if (!count && !more)
    return text ? "No line has this." : live ? "Nothing yet." : "It has printed nothing.";
  const which = text ? "with this" : "";
  return [more ? "the newest" : "", many, which, live ? "· live" : ""].filter(Boolean).join(" ");
}

/** The lines. At the end, new ones scroll in; further up, nothing moves. */
function Lines({ lines, onStep }: { lines: RunLine[]; onStep: (address: string) => void }) {
  const box = useRef<HTMLDivElement>(null);
  const [atEnd, setAtEnd] = useState(true);
  const height = useRef(0);
  const last = lines.at(-1)?.mark;
  const first = lines[0]?.mark;
  useLayoutEffect(() => {
    if (atEnd && box.current) box.current.scrollTop = box.current.scrollHeight;
  }, [atEnd, last]);
  useLayoutEffect(() => {
    const { current } = box;
    if (!current) return;
    // Earlier lines came in above: those in view keep their place.
    if (!atEnd && height.current) current.scrollTop += current.scrollHeight - height.current;
    height.current = current.scrollHeight;
  }, [atEnd, first]);
  return (
    <div
      ref={box}
      className={classes.lines}
      role="log"
      aria-label="log of the run"
      tabIndex={0}
      onScroll={({ currentTarget: { scrollHeight, scrollTop, clientHeight } }) =>
        setAtEnd(scrollHeight - scrollTop - clientHeight < NEAR)
      }
    >
      {lines.map((line) => (
        <Line
          key={line.mark}
          line={line}
          pieces={piecesOf(line.text)}
          place={<Place line={line} onStep={onStep} />}
        />
      ))}
    </div>
  );
}

/** The step that printed a line, and of several attempts which one. */
function Place({ line, onStep }: { line: RunLine; onStep: (address: string) => void }) {
  const name = decodeURIComponent(line.address) + (line.attempt > 1 ? `#${line.attempt}` : "");
  return (
    <button
      type="button"
      className={classes.place}
      title={name}
      onClick={() => onStep(line.address)}
    >
      {name}
    </button>
  );
}
