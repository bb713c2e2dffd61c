import { Button, Group, Select, Stack, Text, TextInput } from "@mantine/core";
import { useState } from "react";

import { ErrorNote } from "../../components/ErrorNotes";
import type { RunFilter } from "../../queries/queryClient";
import { useBulk, type BulkAnswer, type RunAction } from "../../queries/actions";

interface Props {
  filter: RunFilter;
  onClose: () => void;
}

/** A command for all of them, its reason, and the question whether that many are meant. */
export default function BulkForm({ filter, onClose }: Props) {
  const [action, setAction] = useState<RunAction>("cancel");
  const [reason, setReason] = useState("");
  const bulk = useBulk();
  const [answer, setAnswer] = useState<BulkAnswer | null>(null);
  const [confirmed, setConfirmed] = useState(false);
  const ask = (count: number | null) =>
    bulk.mutate(
      { action, filter, reason, count },
      {
        onSuccess: (found) => {
          setAnswer(found);
          setConfirmed(count !== null);
        },
      },
    );
  if (answer && confirmed) {
    return (
      <Stack gap="xs">
        <Text size="sm">
          {answer.done.length} of {answer.count} told to {action}.
        </Text>
        {answer.refused.slice(0, 5).map((one) => (
          <Text size="xs" c="dimmed" key={one.run}>
            {one.why}
          </Text>
        ))}
        <Button size="xs" variant="default" onClick={onClose}>
          Close
        </Button>
      </Stack>
    );
  }
  return (
    <Stack gap="sm">
      <Select
        label="What"
        data={["pause", "resume", "cancel", "mend"]}
        value={action}
        allowDeselect={false}
        comboboxProps={{ withinPortal: false }}
        onChange={(value) => {
          setAction(value as RunAction);
          setAnswer(null);
        }}
      />
      <TextInput
        label="Reason"
        placeholder="for the record"
        value={reason}
        onChange={(event) => setReason(event.currentTarget.value)}
      />
      {bulk.error && <ErrorNote error={bulk.error} />}
      <Group justify="flex-end">
        {answer ? (
          <Button
            size="xs"
            color={action === "cancel" ? "red" : undefined}
            disabled={answer.count === 0}
            loading={bulk.isPending}
            onClick={() => ask(answer.count)}
          >
            Yes, {action} {answer.count} {answer.count === 1 ? "run" : "runs"}
          </Button>
        ) : (
          <Button size="xs" loading={bulk.isPending} onClick={() => ask(null)}>
            How many are they?
          </Button>
        )}
      </Group>
    </Stack>
  );
}
