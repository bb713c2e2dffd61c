import { Button, Group, Slider, Text } from "@mantine/core";
import { IconHistory } from "@tabler/icons-react";

import type { PastProgress, Run } from "../../api/types";
import { percent } from "../../components/RunProgress";
import { exactSecond, spell, useNow } from "../../components/durations";
import { useCommands } from "../../queries/actions";
import classes from "./LookBack.module.css";

interface Props {
  run: Run;
  /** The moment that is looked back at, RFC 3339; null is now. */
  then: string | null;
  onThen: (then: string | null) => void;
  /** The progress at that moment; undefined until the graph of that moment is there. */
  progress?: PastProgress;
}

/** What stands on the slider besides its ends. */
const MARKED = ["pause", "resume", "cancel", "mend"];
const STEPS = 500;

/** A slider over a run's history: the graph is shown as it was at that moment. */
export function LookBack({ run, then, onThen, progress }: Props) {
  const now = useNow();
  const commands = useCommands(run.number, true);
  const from = Date.parse(run.created_at);
  const to = Math.max(run.ended_at ? Date.parse(run.ended_at) : now, from + 1);
  const at = then ? Math.min(Date.parse(then), to) : to;
  const marks = (commands.data?.commands ?? [])
    .filter(({ what }) => MARKED.includes(what))
    .map((one) => ({ value: Date.parse(one.at), label: one.what }));
  const since = spell((at - from) / 1000);
  return (
    <Group gap="sm" wrap="nowrap" className={classes.bar} data-past={then !== null || undefined}>
      <IconHistory size={17} aria-hidden />
      <Text size="sm" fw={600} className={classes.title}>
        Look back
      </Text>
      <Slider
        className={classes.slider}
        size={5}
        min={from}
        max={to}
        step={Math.max(1, (to - from) / STEPS)}
        value={at}
        label={null}
        color="var(--dye-running)"
        marks={marks}
        thumbLabel="moment of the run"
        thumbProps={{ "aria-valuetext": then ? `${since} after its start` : "now" }}
        onChange={(value) => onThen(value >= to ? null : new Date(value).toISOString())}
      />
      <Text size="sm" className={classes.when}>
        {then ? `as it was at ${exactSecond(then)}, ${since} after its start` : "as it is now"}
        {then && progress && progress.fraction !== null && ` · ${howFar(progress)}`}
      </Text>
      <Button
        size="compact-xs"
        variant="default"
        disabled={then === null}
        onClick={() => onThen(null)}
      >
        Now
      </Button>
    </Group>
  );
}

function howFar({ fraction, seconds_left: left, at_least }: PastProgress): string {
  const rest = left === null ? "" : `, ${at_least ? "at least" : "about"} ${spell(left)} left then`;
  return percent(fraction) + rest;
}
