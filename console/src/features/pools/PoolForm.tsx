import { Button, Group, NumberInput, Stack, Text, TextInput } from "@mantine/core";
import { useState } from "react";

import type { Json, Pool } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { useChangePool, useRemovePool } from "../../queries/pools";

interface Props {
  /** The pool that is changed; null makes one. */
  pool: Pool | null;
  onClose: () => void;
}

type Given = number | string;

/** What can be set of a pool; an empty field is no limit. */
export function PoolForm({ pool, onClose }: Props) {
  const [name, setName] = useState("");
  const [limit, setLimit] = useState<Given>(pool ? (pool.limit ?? "") : 1);
  const [count, setCount] = useState<Given>(pool?.rate?.count ?? "");
  const [per, setPer] = useState<Given>(pool?.rate?.per ?? 1);
  const [note, setNote] = useState(pool?.note ?? "");
  const [reason, setReason] = useState("");
  const change = useChangePool(pool?.name ?? null);
  const send = (body: { [key: string]: Json }) =>
    change.mutate({ ...body, reason }, { onSuccess: onClose });
  const given = (): { [key: string]: Json } => {
    const rate = count === "" ? null : { count: Number(count), per: Number(per) };
    const all = { limit: limit === "" ? null : Number(limit), rate, note };
    if (!pool) return { name, ...all };
    const before: typeof all = { limit: pool.limit, rate: pool.rate, note: pool.note };
    const differs = (key: keyof typeof all) =>
      JSON.stringify(all[key]) !== JSON.stringify(before[key]);
    const keys = (Object.keys(all) as (keyof typeof all)[]).filter(differs);
    return Object.fromEntries(keys.map((key) => [key, all[key]]));
  };
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        send(given());
      }}
    >
      <Stack gap="sm">
        {!pool && (
          <TextInput
            label="Name"
            description="What steps say with pool="
            value={name}
            onChange={(event) => setName(event.currentTarget.value)}
            required
          />
        )}
        <NumberInput
          label="Limit"
          description="Attempts at once; 0 halts, empty is no limit"
          value={limit}
          onChange={setLimit}
          min={0}
          allowDecimal={false}
        />
        <Group grow align="flex-end">
          <NumberInput
            label="Rate"
            description="Begins; empty is any"
            value={count}
            onChange={setCount}
            min={1}
            allowDecimal={false}
          />
          <NumberInput
            label="in seconds"
            value={per}
            onChange={setPer}
            min={0.001}
            disabled={count === ""}
          />
        </Group>
        <TextInput
          label="Note"
          value={note}
          onChange={(event) => setNote(event.currentTarget.value)}
        />
        <TextInput
          label="Reason"
          placeholder="for the record"
          value={reason}
          onChange={(event) => setReason(event.currentTarget.value)}
        />
        {change.error && <ErrorNote error={change.error} />}
        <Group justify="flex-end">
          {pool && Object.keys(pool.by_hand).length > 0 && pool.declared.length > 0 && (
            <Button variant="default" size="xs" onClick={() => send({ as_declared: true })}>
              As declared
            </Button>
          )}
          <Button type="submit" size="xs" loading={change.isPending}>
            {pool ? "Change" : "Make pool"}
          </Button>
        </Group>
        {pool && !pool.declared.length && <Remove pool={pool} onClose={onClose} />}
      </Stack>
    </form>
  );
}

function Remove({ pool, onClose }: { pool: Pool; onClose: () => void }) {
  const remove = useRemovePool(pool.name);
  return (
    <Stack gap={4}>
      <Text size="xs" c="dimmed">
        No loom declares it.
      </Text>
      {remove.error && <ErrorNote error={remove.error} />}
      <Button
        variant="subtle"
        color="red"
        size="xs"
        loading={remove.isPending}
        onClick={() => remove.mutate(undefined, { onSuccess: onClose })}
      >
        Remove pool {pool.name}
      </Button>
    </Stack>
  );
}
