import { List, Stack, Table, Text, Title } from "@mantine/core";
import { Link } from "react-router";

import type { Pool, PoolWaiter } from "../../api/types";
import { Chart } from "../../components/charts/Chart";
import { ErrorNote } from "../../components/ErrorNotes";
import { SideDrawer } from "../../components/SideDrawer";
import { Ago } from "../../components/TimeAgo";
import { usePoolUse } from "../../queries/pools";

interface Props {
  /** Null closes it. */
  pool: Pool | null;
  onClose: () => void;
}

/** How full a pool was within the last hour, who has it now, and who waits for it. */
export function PoolDrawer({ pool, onClose }: Props) {
  return (
    <SideDrawer title={pool && `Pool ${pool.name}`} closeLabel="Close the pool" onClose={onClose}>
      {pool && <Inside pool={pool} key={pool.name} />}
    </SideDrawer>
  );
}

function Inside({ pool }: { pool: Pool }) {
  const use = usePoolUse(pool.name);
  if (use.error) return <ErrorNote error={use.error} />;
  if (!use.data) return null;
  const { minutes, waits, queue: waiters, more, by_priority } = use.data;
  const fullest = minutes.reduce((most, one) => Math.max(most, one.in_use), 0);
  const queue = minutes.reduce((most, one) => Math.max(most, one.waiting), 0);
  const said = `at most ${fullest} in use and ${queue} waiting in a minute of the last hour`;
  return (
    <Stack gap="md" data-testid="pool">
      <section>
        <Title order={2} size="h5">
          The last hour
        </Title>
        <Text size="xs" c="dimmed" mb={6}>
          {said}
        </Text>
        {minutes.length > 0 && (
          <Chart
            minutes={minutes.map((minute) => ({ ...minute }))}
            kind="lines"
            height={190}
            label={said}
            series={[
              { name: "limit", label: "limit", dye: "waiting" },
              { name: "in_use", label: "in use", dye: "running" },
              { name: "waiting", label: "waiting", dye: "ready" },
            ]}
          />
        )}
      </section>
      <Users
        title="In use by"
        unit="place"
        rows={pool.used_by.map((one) => [one.run, one.weight, null])}
      />
      <Queue waiters={waiters} more={more} priorities={by_priority} />
      <Users
        title="Waited for by"
        unit="step"
        rows={waits.map((one) => [one.run, one.steps, one.since])}
      />
      <Link to={`/runs?pool=${encodeURIComponent(pool.name)}`}>all runs that use it or wait</Link>
    </Stack>
  );
}

interface QueueProps {
  waiters: PoolWaiter[];
  more: number;
  priorities: { [priority: string]: number };
}

/** Who comes next, and why not now. */
function Queue({ waiters, more, priorities }: QueueProps) {
  const counts = Object.entries(priorities);
  return (
    <section data-testid="pool-queue">
      <Title order={2} size="h5" mb={4}>
        Next in line
      </Title>
      {counts.length > 1 && (
        <Text size="xs" c="dimmed">
          {counts
            .sort(([one], [other]) => Number(other) - Number(one))
            .map(([priority, steps]) => `${steps.toLocaleString("en")} at priority ${priority}`)
            .join(", ")}
        </Text>
      )}
      {!waiters.length && (
        <Text size="sm" c="dimmed">
          nobody waits
        </Text>
      )}
      <List type="ordered" size="sm" spacing={6}>
        {waiters.slice(0, SHOWN).map((one) => (
          <List.Item key={`${one.share} ${one.priority} ${JSON.stringify(one.pools)}`}>
            <b>{one.share}</b>
            {one.priority !== 0 && ` (priority ${one.priority})`}: {one.steps}{" "}
            {one.steps === 1 ? "step" : "steps"} of {needs(one)}
            {one.reserved_at && (
              <Text size="xs">
                room is kept for it since <Ago at={one.reserved_at} />
              </Text>
            )}
            <Text size="xs" c="dimmed">
              {one.reasons.map((reason) => reason.text).join("; ") || "its turn comes next"}
            </Text>
          </List.Item>
        ))}
      </List>
      {waiters.length + more > SHOWN && (
        <Text size="xs" c="dimmed">
          and {(waiters.length + more - SHOWN).toLocaleString("en")} more
        </Text>
      )}
    </section>
  );
}

const SHOWN = 12;

function needs({ pools }: PoolWaiter): string {
  return Object.entries(pools)
    .map(([name, weight]) => (weight > 1 ? `${weight} ${name}` : name))
    .join(" + ");
}

interface UsersProps {
  title: string;
  unit: string;
  rows: [number, number, string | null][];
}

function Users({ title, unit, rows }: UsersProps) {
  return (
    <section>
      <Title order={2} size="h5" mb={4}>
        {title}
      </Title>
      {!rows.length && (
        <Text size="sm" c="dimmed">
          nobody
        </Text>
      )}
      <Table fz="sm" verticalSpacing={4}>
        <Table.Tbody>
          {rows.map(([run, count, since]) => (
            <Table.Tr key={run}>
              <Table.Td>
                <Link to={`/runs/${run}`}>run {run}</Link>
              </Table.Td>
              <Table.Td>
                {count} {count === 1 ? unit : `${unit}s`}
              </Table.Td>
              {since && (
                <Table.Td>
                  the first since <Ago at={since} />
                </Table.Td>
              )}
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </section>
  );
}
