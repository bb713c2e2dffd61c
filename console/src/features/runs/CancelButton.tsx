import { Button, Group, Popover, Stack, Text, TextInput } from "@mantine/core";
import { IconBan } from "@tabler/icons-react";
import { useState } from "react";

import type { Run } from "../../api/types";
import { ErrorNote } from "../../components/Notes";
import { useCancel } from "../../queries/runs";

/** Tells a run to stop, after saying what that does and asking why. */
export function CancelButton({ run }: { run: Run }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const cancel = useCancel(run.number);
  const send = () => cancel.mutate(reason, { onSuccess: () => setOpen(false) });
  return (
    <Popover opened={open} onChange={setOpen} position="bottom-end" width={330} trapFocus withArrow>
      <Popover.Target>
        <Button
          variant="default"
          size="sm"
          leftSection={<IconBan size={16} />}
          onClick={() => setOpen((before) => !before)}
        >
          Cancel run
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            send();
          }}
        >
          <Stack gap="sm">
            <Text size="sm">
              Nothing new starts. A running step is told to stop; what it returns within its grace
              is kept, then its process is killed.
            </Text>
            <TextInput
              label="Reason"
              placeholder="for the record"
              value={reason}
              onChange={(event) => setReason(event.currentTarget.value)}
            />
            {cancel.error && <ErrorNote error={cancel.error} />}
            <Group justify="flex-end">
              <Button variant="default" size="xs" onClick={() => setOpen(false)}>
                Keep it running
              </Button>
              <Button type="submit" size="xs" color="red" loading={cancel.isPending}>
                Cancel run {run.number}
              </Button>
            </Group>
          </Stack>
        </form>
      </Popover.Dropdown>
    </Popover>
  );
}
