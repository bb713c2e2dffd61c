import { Button, Group, JsonInput, NumberInput, Stack, Text, TextInput } from "@mantine/core";
import { useState } from "react";

import type { Json, Step, StepState } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { FormButton } from "../../components/FormButton";
import { useActOnStep, type StepAction } from "../../queries/actions";

interface Choice {
  action: StepAction;
  label: string;
  words: string;
  in: StepState[];
  color?: string;
}

const UNBEGUN: StepState[] = ["waiting", "ready", "backing_off", "resting", "paused"];
const OVER: StepState[] = ["failed", "cancelled"];

const CHOICES: Choice[] = [
  {
    action: "pause",
    label: "Pause",
    words: "It stops at its next checkpoint, and starts no more until it is resumed.",
    in: ["ready", "running", "backing_off", "resting"],
  },
  { action: "resume", label: "Resume", words: "It goes on where it stopped.", in: ["paused"] },
  {
    action: "retry",
    label: "Try again",
    words: "It runs again, with what was not reached because of it.",
    in: [...OVER, "backing_off", "resting"],
  },
  {
    action: "edit",
    label: "Edit",
    words: "Its inputs become what stands here, also when the run is mended.",
    in: [...UNBEGUN, ...OVER],
  },
  {
    action: "supply",
    label: "Give output",
    words: "It counts as done with this output, and what stands behind it goes on.",
    in: [...UNBEGUN, ...OVER],
  },
  {
    action: "skip",
    label: "Skip",
    words: "It is passed over; its output is null.",
    in: [...UNBEGUN, ...OVER],
  },
  {
    action: "cancel",
    label: "Cancel",
    words: "It ends, and counts as a failure for what is around it.",
    color: "red",
    in: [...UNBEGUN, "running"],
  },
];

const FOR_A_MEND: StepAction[] = ["edit", "supply", "skip"];
/** A follow-up can be tried again alone, also when its run has ended. */
const IN_FOLLOW_UP = /(^|\/)on_(failure|end)(\/|$)/;

interface Props {
  run: number;
  address: string;
  step: Step;
  /** Whether its run has ended: then what is decided is kept for the next round. */
  ended: boolean;
}

/** What can be decided about a step in its present state. */
export function StepActions({ run, address, step, ended }: Props) {
  const follows = IN_FOLLOW_UP.test(address);
  const possible = CHOICES.filter(
    (one) =>
      one.in.includes(step.state) &&
      (!ended || FOR_A_MEND.includes(one.action) || (one.action === "retry" && follows)) &&
      !(one.action === "resume" && !step.paused_by_hand),
  );
  if (!possible.length) return null;
  return (
    <Group gap={6} data-testid="step-actions">
      {possible.map((choice) => (
        <FormButton label={choice.label} key={choice.action} width={320}>
          {(close) => (
            <ActForm run={run} address={address} step={step} choice={choice} onClose={close} />
          )}
        </FormButton>
      ))}
    </Group>
  );
}

interface FormProps extends Omit<Props, "ended"> {
  choice: Choice;
  onClose: () => void;
}

function ActForm({ run, address, step, choice, onClose }: FormProps) {
  const act = useActOnStep(run, address, choice.action);
  const [reason, setReason] = useState("");
  const [text, setText] = useState(() =>
    choice.action === "edit" ? JSON.stringify(step.input ?? {}, null, 2) : "null",
  );
  const [priority, setPriority] = useState<string | number>("");
  const withJson = choice.action === "edit" || choice.action === "supply";
  const value = parse(text);
  const body: { [key: string]: Json } = { reason };
  if (choice.action === "edit" && value !== undefined) {
    const changed = changes(step.input, value);
    if (changed) body.inputs = changed;
    if (typeof priority === "number") body.priority = priority;
  } else if (choice.action === "supply" && value !== undefined) body.output = value;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        act.mutate(body, { onSuccess: onClose });
      }}
    >
      <Stack gap="sm">
        <Text size="sm">{choice.words}</Text>
        {withJson && (
          <JsonInput
            label={choice.action === "edit" ? "Input" : "Output"}
            autosize
            minRows={3}
            maxRows={12}
            value={text}
            onChange={setText}
            error={value === undefined && "Not JSON"}
          />
        )}
        {choice.action === "edit" && (
          <NumberInput
            label="Priority"
            placeholder="as it is"
            value={priority}
            onChange={setPriority}
            min={-1000}
            max={1000}
          />
        )}
        <TextInput
          label="Reason"
          placeholder="for the record"
          value={reason}
          onChange={(event) => setReason(event.currentTarget.value)}
        />
        {act.error && <ErrorNote error={act.error} />}
        <Group justify="flex-end">
          <Button variant="default" size="xs" onClick={onClose}>
            Leave it
          </Button>
          <Button
            type="submit"
            size="xs"
            color={choice.color}
            loading={act.isPending}
            disabled={withJson && value === undefined}
          >
            {choice.label} {address.split("/").at(-1)}
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

function parse(text: string): Json | undefined {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return undefined;
  }
}

/** The inputs that were changed; null if none was. */
function changes(before: Json, after: Json): { [key: string]: Json } | null {
  if (after === null || typeof after !== "object" || Array.isArray(after)) return null;
  const old = (before ?? {}) as { [key: string]: Json };
  const found = Object.entries(after).filter(
    ([name, value]) => JSON.stringify(value) !== JSON.stringify(old[name]),
  );
  return found.length ? Object.fromEntries(found) : null;
}
