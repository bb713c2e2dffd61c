import { Group, Stack, Table, Text, Title } from "@mantine/core";
import { Link, useSearchParams } from "react-router";

import type { Pool } from "../../api/types";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { spell } from "../../components/durations";
import frame from "../../components/Frame.module.css";
import opens from "../../components/FormButton.module.css";
import { FormButton } from "../../components/FormButton";
import { PauseButton, PausedNote } from "../../components/PauseButton";
import { useChangePool, usePools } from "../../queries/pools";
import { PoolPlaces } from "./PoolPlaces";
import { PoolDrawer } from "./PoolDrawer";
import { PoolForm } from "./PoolForm";
import classes from "./PoolsPage.module.css";

/** What limits how many run at once: how full, who uses it, and changing it. */
export function PoolsPage() {
  const found = usePools();
  const [query, setQuery] = useSearchParams();
  const pools = found.data?.pools ?? [];
  const open = pools.find(({ name }) => name === query.get("pool")) ?? null;
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Pools
        </Title>
        <FormButton label="Make a pool…">
          {(close) => <PoolForm pool={null} onClose={close} />}
        </FormButton>
      </Group>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !pools.length && (
        <Empty title="No pools yet" command='loom.pool("gauge-link", limit=3)'>
          A pool limits how many steps run at once, across all runs. Declare one in a loom:
        </Empty>
      )}
      {pools.length > 0 && (
        <div className={frame.frame} tabIndex={0} role="region" aria-label="pools">
          <Table verticalSpacing={9}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Pool</Table.Th>
                <Table.Th>In use</Table.Th>
                <Table.Th className={frame.number}>Waiting</Table.Th>
                <Table.Th>Rate</Table.Th>
                <Table.Th>Used by</Table.Th>
                <Table.Th aria-label="Changes" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {pools.map((pool) => (
                <PoolRow key={pool.name} pool={pool} onOpen={() => setQuery({ pool: pool.name })} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
      <PoolDrawer pool={open} onClose={() => setQuery({})} />
    </Stack>
  );
}

function PoolRow({ pool, onOpen }: { pool: Pool; onOpen: () => void }) {
  return (
    <Table.Tr aria-label={`pool ${pool.name}`} data-paused={pool.paused !== null || undefined}>
      <Table.Td>
        <button type="button" className={opens.name} onClick={onOpen}>
          {pool.name}
        </button>
        <Text size="xs" c="dimmed">
          {pool.note}
        </Text>
        <Origin pool={pool} />
        {pool.paused && <PausedNote pause={pool.paused} />}
      </Table.Td>
      <Table.Td>
        <PoolPlaces pool={pool} />
        <Values pool={pool} />
      </Table.Td>
      <Table.Td className={frame.number}>{pool.waiting || "–"}</Table.Td>
      <Table.Td>
        <Text size="sm">
          {pool.rate ? `at most ${pool.rate.count} in ${exactly(pool.rate.per)}` : "any"}
        </Text>
        <Text size="xs" c="dimmed">
          {pool.begun_last_minute} begun in the last minute
        </Text>
      </Table.Td>
      <Table.Td>
        <Users pool={pool} />
      </Table.Td>
      <Table.Td>
        <Group gap={6} justify="flex-end" wrap="nowrap">
          <Flow pool={pool} />
          <FormButton label="Change…">
            {(close) => <PoolForm pool={pool} onClose={close} />}
          </FormButton>
        </Group>
      </Table.Td>
    </Table.Tr>
  );
}

/** A time that was set, as it was set: "3 s", not "3.0 s". */
function exactly(seconds: number): string {
  return seconds >= 1 && seconds < 60 ? `${seconds} s` : spell(seconds);
}

/** Where the limits come from, where that is not plain. */
function Origin({ pool }: { pool: Pool }) {
  const said = pool.declared.map(
    (one) => `${one.loom} says ${one.limit === null ? "no limit" : one.limit}`,
  );
  const byHand = Object.keys(pool.by_hand).filter((key) => key !== "note");
  if (!byHand.length && said.length < 2) return null;
  return (
    <Text size="xs" c="dimmed">
      {[...(byHand.length ? [`${byHand.join(" and ")} set by hand`] : []), ...said].join("; ")}
    </Text>
  );
}

/** With a limit for each value: those that are used most. */
function Values({ pool }: { pool: Pool }) {
  if (!pool.values.length) return null;
  return (
    <div className={classes.values}>
      {pool.values.slice(0, 4).map((one) => (
        <span key={one.value}>
          {one.value} {one.in_use}
          {one.waiting > 0 && ` (+${one.waiting})`}
        </span>
      ))}
      {pool.values.length > 4 && <span>…</span>}
    </div>
  );
}

function Users({ pool }: { pool: Pool }) {
  if (!pool.used_by.length) return <span className={frame.faded}>nobody</span>;
  const shown = pool.used_by.slice(0, 3);
  const more = pool.runs - shown.length;
  return (
    <Text size="sm">
      {shown.map((one, index) => (
        <span key={one.run}>
          {index > 0 && ", "}
          <Link to={`/runs/${one.run}`}>run {one.run}</Link>
          {one.weight > 1 && ` (${one.weight})`}
        </span>
      ))}
      {more > 0 && ` and ${more} more`}
    </Text>
  );
}

function Flow({ pool }: { pool: Pool }) {
  const change = useChangePool(pool.name);
  return <PauseButton paused={pool.paused !== null} change={change} />;
}
