import { Text } from "@mantine/core";
import { useEffect, useRef } from "react";

import type { LogLine } from "../../api/types";
import { ErrorNote } from "../../components/Notes";
import { useLiveLog } from "../../queries/live";
import { useLog } from "../../queries/runs";
import classes from "./StepDrawer.module.css";

interface Props {
  run: number;
  /** Of the attempt, within the run: `fetch#2`. */
  address: string;
  /** Whether it runs, so that more may come. */
  live: boolean;
}

/** What an attempt printed and logged, line by line as it comes. */
export function AttemptLog({ run, address, live }: Props) {
  const log = useLog(run, address);
  useLiveLog(run, address, live && log.isSuccess);
  const end = useRef<HTMLDivElement>(null);
  const count = log.data?.lines.length ?? 0;
  useEffect(() => {
    if (live) end.current?.scrollTo({ top: end.current.scrollHeight });
  }, [live, count]);
  if (log.error) return <ErrorNote error={log.error} />;
  if (!log.data) return null;
  if (!log.data.lines.length) {
    return (
      <Text size="sm" c="dimmed">
        It has printed nothing.
      </Text>
    );
  }
  return (
    <div ref={end} className={classes.log} role="log" aria-label={`log of ${address}`} tabIndex={0}>
      {log.data.lines.map((line) => (
        <Line key={line.line} line={line} />
      ))}
    </div>
  );
}

function Line({ line }: { line: LogLine }) {
  const mark = line.level ?? line.stream;
  return (
    <div className={classes.line} data-mark={mark}>
      <time dateTime={line.at}>{line.at.slice(11, 23)}</time>
      <span className={classes.mark}>{mark}</span>
      <span>{line.text}</span>
    </div>
  );
}
