import { Button, Group, JsonInput, Stack, Text } from "@mantine/core";
import {
  IconBan,
  IconPlayerPause,
  IconPlayerPlay,
  IconRefresh,
  IconTool,
  type Icon,
} from "@tabler/icons-react";
import { useState } from "react";
import { useNavigate } from "react-router";

import type { Json, Run, RunState } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { FormButton } from "../../components/FormButton";
import { ReasonForm } from "../../components/ReasonForm";
import { useAct, useRerun, type RunAction } from "../../queries/actions";

interface Choice {
  action: RunAction;
  icon: Icon;
  label: string;
  words: string;
  no: string;
  in: RunState[];
  color?: string;
}

const GOING: RunState[] = ["scheduled", "queued", "running"];

const CHOICES: Choice[] = [
  {
    action: "pause",
    icon: IconPlayerPause,
    label: "Pause",
    words:
      "Nothing new starts. A running step stops at its next checkpoint, or finishes; it goes on " +
      "from there when the run is resumed.",
    no: "Let it run",
    in: GOING,
  },
  {
    action: "resume",
    icon: IconPlayerPlay,
    label: "Resume",
    words: "Everything goes on where it stopped; what fell due meanwhile starts at once.",
    no: "Leave it paused",
    in: ["pausing", "paused"],
  },
  {
    action: "mend",
    icon: IconTool,
    label: "Mend",
    words:
      "A new round: what failed, was cancelled or not reached runs again, and what read its " +
      "output. All else is kept.",
    no: "Leave it",
    in: ["failed", "cancelled"],
  },
  {
    action: "cancel",
    icon: IconBan,
    label: "Cancel run",
    words:
      "Nothing new starts. A running step is told to stop; what it returns within its grace is " +
      "kept, then its process is killed.",
    no: "Keep it running",
    color: "red",
    in: [...GOING, "pausing", "paused"],
  },
];

/** What can be done with a run in its present state. */
export function RunActions({ run }: { run: Run }) {
  const mendable = run.state === "done" && run.failures_allowed > 0;
  const possible = CHOICES.filter(
    (one) => one.in.includes(run.state) || (one.action === "mend" && mendable),
  );
  return (
    <Group gap="xs">
      {possible.map((choice) => (
        <Act key={choice.action} run={run} choice={choice} />
      ))}
      {run.ended_at && <Rerun run={run} />}
    </Group>
  );
}

function Act({ run, choice }: { run: Run; choice: Choice }) {
  const act = useAct(run.number, choice.action);
  const yes = `${choice.label.replace(" run", "")} run ${run.number}`;
  return (
    <FormButton label={choice.label} icon={<choice.icon size={16} />} size="sm" width={330}>
      {(close) => (
        <ReasonForm
          words={choice.words}
          yes={yes}
          no={choice.no}
          color={choice.color}
          mutation={act}
          onClose={close}
        />
      )}
    </FormButton>
  );
}

function Rerun({ run }: { run: Run }) {
  return (
    <FormButton label="Rerun" icon={<IconRefresh size={16} />} size="sm" width={380}>
      {(close) => <RerunForm run={run} onClose={close} />}
    </FormButton>
  );
}

const MASK = "•••";

/** The run's params, to be changed; what is secret stays as it was unless it is written anew. */
function RerunForm({ run, onClose }: { run: Run; onClose: () => void }) {
  const rerun = useRerun(run.number);
  const navigate = useNavigate();
  const [text, setText] = useState(() => JSON.stringify(run.params, null, 2));
  const params = parse(text);
  return (
    <Stack gap="sm">
      <Text size="sm">A new run of {run.workflow}, as it is now, with these params.</Text>
      <JsonInput
        label="Params"
        autosize
        minRows={4}
        maxRows={14}
        value={text}
        onChange={setText}
        validationError="Not a JSON object"
        error={params === null && "Not a JSON object"}
      />
      {rerun.error && <ErrorNote error={rerun.error} />}
      <Group justify="flex-end">
        <Button variant="default" size="xs" onClick={onClose}>
          Not now
        </Button>
        <Button
          size="xs"
          disabled={params === null}
          loading={rerun.isPending}
          onClick={() =>
            rerun.mutate(withoutMasked(params ?? {}), {
              onSuccess: (started) => {
                onClose();
                void navigate(`/runs/${started.number}`);
              },
            })
          }
        >
          Start it
        </Button>
      </Group>
    </Stack>
  );
}

function parse(text: string): { [key: string]: Json } | null {
  try {
    const value = JSON.parse(text) as Json;
    return value !== null && typeof value === "object" && !Array.isArray(value) ? value : null;
  } catch {
    return null;
  }
}

function withoutMasked(params: { [key: string]: Json }): { [key: string]: Json } {
  return Object.fromEntries(
    Object.entries(params).filter(([, value]) => !JSON.stringify(value).includes(MASK)),
  );
}
