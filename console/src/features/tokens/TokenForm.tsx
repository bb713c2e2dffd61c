import {
  Button,
  Checkbox,
  Code,
  CopyButton,
  Group,
  NumberInput,
  Stack,
  Text,
  TextInput,
} from "@mantine/core";
import { useState } from "react";

import type { Role } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { useAddToken } from "../../queries/access";

const ROLES: { role: Role; says: string }[] = [
  { role: "view", says: "read everything" },
  { role: "operate", says: "read, start, pause, cancel and decide" },
  { role: "publish", says: "publish workflows" },
  { role: "work", says: "work for the service" },
  { role: "admin", says: "everything" },
];
const DAY = 86_400;

/** Makes a token, and shows it, which nothing does later. */
export function TokenForm({ onClose }: { onClose: () => void }) {
  const [name, setName] = useState("");
  const [may, setMay] = useState<string[]>(["view"]);
  const [patterns, setPatterns] = useState("");
  const [days, setDays] = useState<number | string>(90);
  const add = useAddToken();
  if (add.data) return <Made token={add.data.token} name={add.data.name} onClose={onClose} />;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate({
          name: name.trim(),
          may: may as Role[],
          workflows: patterns.split(/[\s,]+/).filter(Boolean),
          seconds: Number(days) * DAY,
        });
      }}
    >
      <Stack gap="sm">
        <TextInput
          label="Name"
          description="Its owner: the record names it for every command"
          value={name}
          onChange={(event) => setName(event.currentTarget.value)}
          required
        />
        <Checkbox.Group label="May" value={may} onChange={setMay}>
          <Stack gap={6} mt={4}>
            {ROLES.map(({ role, says }) => (
              <Checkbox key={role} size="xs" value={role} label={`${role}: ${says}`} />
            ))}
          </Stack>
        </Checkbox.Group>
        {may.includes("operate") && (
          <TextInput
            label="Only these workflows"
            description="Patterns of full names, as shop/*; empty is all"
            value={patterns}
            onChange={(event) => setPatterns(event.currentTarget.value)}
          />
        )}
        <NumberInput
          label="Days"
          description="After which it ends"
          value={days}
          onChange={setDays}
          min={1}
          max={3_650}
        />
        {add.error && <ErrorNote error={add.error} />}
        <Group justify="flex-end">
          <Button type="submit" size="xs" loading={add.isPending} disabled={!may.length}>
            Make token
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

function Made({ token, name, onClose }: { token: string; name: string; onClose: () => void }) {
  return (
    <Stack gap="sm">
      <Text size="sm">
        The token {name}. It is shown this once: put it into a file that only its owner can read.
      </Text>
      <Code block>{token}</Code>
      <Group justify="flex-end">
        <CopyButton value={token}>
          {({ copied, copy }) => (
            <Button size="xs" variant="default" onClick={copy}>
              {copied ? "Copied" : "Copy"}
            </Button>
          )}
        </CopyButton>
        <Button size="xs" onClick={onClose}>
          Done
        </Button>
      </Group>
    </Stack>
  );
}
