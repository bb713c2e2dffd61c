import { Button, Group, Stack, Text, TextInput } from "@mantine/core";
import type { UseMutationResult } from "@tanstack/react-query";
import { useState } from "react";

import { ErrorNote } from "./ErrorNotes";

interface Props {
  /** What it does. */
  words: string;
  /** What the button says that does it, and the one that does not. */
  yes: string;
  no: string;
  color?: string;
  /** Does it, with the reason that was given. */
  mutation: UseMutationResult<unknown, Error, string>;
  onClose: () => void;
}

/** Says what a command does, asks why, and gives it. */
export function ReasonForm({ words, yes, no, color, mutation, onClose }: Props) {
  const [reason, setReason] = useState("");
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        mutation.mutate(reason, { onSuccess: onClose });
      }}
    >
      <Stack gap="sm">
        <Text size="sm">{words}</Text>
        <TextInput
          label="Reason"
          placeholder="for the record"
          value={reason}
          onChange={(event) => setReason(event.currentTarget.value)}
        />
        {mutation.error && <ErrorNote error={mutation.error} />}
        <Group justify="flex-end">
          <Button variant="default" size="xs" onClick={onClose}>
            {no}
          </Button>
          <Button type="submit" size="xs" color={color} loading={mutation.isPending}>
            {yes}
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
