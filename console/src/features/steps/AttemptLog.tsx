import { Group, Text } from "@mantine/core";
import { IconSearch } from "@tabler/icons-react";
import { useEffect, useRef, useState } from "react";

import { ErrorNote } from "../../components/ErrorNotes";
import { TypedInput } from "../../components/TypedInput";
import { useLiveLog } from "../../queries/liveUpdates";
import { useLog } from "../../queries/runs";
import { piecesOf } from "./ansi";
import { Line } from "./LogLine";
import classes from "./StepDrawer.module.css";

interface Props {
  run: number;
  /** Of the attempt, within the run: `fetch#2`. */
  address: string;
  /** Whether it runs, so that more may come. */
  live: boolean;
}

/** So many lines are worth a search. */
const MANY = 12;

/** What an attempt printed and logged, line by line as it comes. */
export function AttemptLog({ run, address, live }: Props) {
  const log = useLog(run, address);
  useLiveLog(run, address, live && log.isSuccess);
  const [wanted, setWanted] = useState("");
  const end = useRef<HTMLDivElement>(null);
  const count = log.data?.lines.length ?? 0;
  useEffect(() => {
    if (live) end.current?.scrollTo({ top: end.current.scrollHeight });
  }, [live, count]);
  if (log.error) return <ErrorNote error={log.error} />;
  if (!log.data) return null;
  const { lines } = log.data;
  if (!lines.length) {
    return (
      <Text size="sm" c="dimmed">
        It has printed nothing.
      </Text>
    );
  }
  const low = wanted.toLowerCase();
  const shown = lines.map((line) => ({ line, pieces: piecesOf(line.text) }));
  const fitting = low
    ? shown.filter(({ pieces }) =>
        pieces
          .map(({ text }) => text)
          .join("")
          .toLowerCase()
          .includes(low),
      )
    : shown;
  return (
    <>
      {lines.length >= MANY && (
        <Group gap="sm" mb={6}>
          <TypedInput
            label="Search the log"
            placeholder="search the log"
            width={220}
            icon={<IconSearch size={15} />}
            value={wanted}
            onSettled={setWanted}
          />
          {low && (
            <Text size="xs" c="dimmed" role="status">
              {fitting.length} of {lines.length} lines
            </Text>
          )}
        </Group>
      )}
      <div
        ref={end}
        className={classes.log}
        role="log"
        aria-label={`log of ${address}`}
        tabIndex={0}
      >
        {fitting.map(({ line, pieces }) => (
          <Line key={line.line} line={line} pieces={pieces} />
        ))}
      </div>
    </>
  );
}
