import { Button, Text } from "@mantine/core";
import { useEffect } from "react";
import { useSearchParams } from "react-router";

import type { FailureKind, Run, RunState } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { exactSecond } from "../../components/durations";
import { useMendOnly } from "../../queries/actions";
import { useFailures } from "../../queries/runs";
import classes from "./FailureKinds.module.css";

/** How many kinds are shown before the rest is only counted. */
const SHOWN = 3;
const MENDABLE: RunState[] = ["done", "failed", "cancelled"];

/** What failed in a run, by kind; a failed run opens on the first of it. */
export function FailureKinds({ run }: { run: Run }) {
  const [query, setQuery] = useSearchParams();
  const failed = run.counts.failed > 0 || run.state === "failed" || run.failures_allowed > 0;
  const found = useFailures(run.number, failed || run.state === "running");
  const first = found.data?.kinds[0]?.first;
  const untouched = [...query.keys()].length === 0;
  useEffect(() => {
    if (run.state === "failed" && first && untouched) setQuery({ step: first }, { replace: true });
    // Only when the page is opened, or the run fails while it is: not when the step is closed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [run.state, first]);
  const kinds = found.data?.kinds ?? [];
  if (!kinds.length) return null;
  return (
    <div className={classes.kinds} role="group" aria-label="what failed">
      {kinds.slice(0, SHOWN).map((kind) => (
        <Kind
          run={run}
          key={`${kind.task} ${kind.type} ${kind.pattern}`}
          kind={kind}
          onOpen={() => setQuery({ step: kind.first })}
        />
      ))}
      {kinds.length > SHOWN && (
        <Text size="sm" c="dimmed">
          and {kinds.length - SHOWN} other kinds
        </Text>
      )}
    </div>
  );
}

interface KindProps {
  run: Run;
  kind: FailureKind;
  onOpen: () => void;
}

function Kind({ run, kind, onOpen }: KindProps) {
  const mend = useMendOnly(run.number);
  const many = kind.number.toLocaleString("en");
  const items = kind.number === 1 ? "1 item" : `${many} items`;
  const { task, type, pattern, addresses } = kind;
  const others = addresses.length - 1;
  const where = others
    ? `${kind.address} and ${others} other ${others > 1 ? "steps" : "step"}`
    : kind.address;
  return (
    <span className={classes.row}>
      <button type="button" className={classes.kind} onClick={onOpen}>
        {kind.in_items && (
          <>
            <strong>{items}</strong> at{" "}
          </>
        )}
        {!kind.in_items && kind.number > 1 && <strong>{many} at </strong>}
        <span title={addresses.slice(0, 30).join(", ")}>{where}</span>: {kind.type}
        {kind.said !== kind.type && `: ${kind.said}`} (first at {exactSecond(kind.first_at)})
      </button>
      {MENDABLE.includes(run.state) && (
        <Button
          size="compact-xs"
          variant="default"
          loading={mend.isPending}
          onClick={() => mend.mutate({ task, type, pattern })}
        >
          Mend {kind.number === 1 ? "it" : `these ${many}`}
        </Button>
      )}
      {mend.error && <ErrorNote error={mend.error} />}
    </span>
  );
}
