import { Group, Progress, Text } from "@mantine/core";

import type { StepProgress as Told, StepState } from "../api/types";
import { spell } from "./durations";

const STOPPED: StepState[] = ["paused", "failed", "cancelled"];

interface Props {
  progress: Told;
  state: StepState;
}

/** How far a step is by its own account: a bar where that can be told, and words. */
export function StepProgress({ progress, state }: Props) {
  const { done, total } = progress;
  return (
    <div data-testid="step-progress">
      {done !== null && total ? (
        <Progress
          value={(100 * done) / total}
          color={`var(--dye-${state})`}
          size={7}
          aria-label={`${done} of ${total}`}
        />
      ) : null}
      <Group justify="space-between" gap="xs" mt={3}>
        <Text size="sm">{progressWords(progress, state)}</Text>
        {progress.note && (
          <Text size="sm" c="dimmed">
            {progress.note}
          </Text>
        )}
      </Group>
    </div>
  );
}

/** "stopped at 412 of 1,000", "412 of 1,000 · 35 a second · 17 s left". */
export function progressWords(progress: Told, state: StepState): string {
  const { done, total, unit, rate, seconds_left: left, added, skipped } = progress;
  const found: string[] = [];
  if (done !== null) {
    const stopped = STOPPED.includes(state) ? "stopped at " : "";
    const of = total ? ` of ${number(total)}` : "";
    found.push(`${stopped}${number(done)}${of}${unit ? ` ${unit}` : ""}`);
  }
  if (state === "running" && rate) found.push(`${number(rate)} a second`);
  if (left !== null) found.push(`${spell(Math.round(left))} left`);
  if (added || skipped) found.push(`${number(added)} added, ${number(skipped)} skipped`);
  return found.join(" · ");
}

function number(value: number): string {
  const digits = value >= 10 || Number.isInteger(value) ? 0 : 1;
  return value.toLocaleString("en", { maximumFractionDigits: digits });
}
