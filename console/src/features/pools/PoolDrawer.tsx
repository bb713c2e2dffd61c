import { Stack, Table, Text, Title } from "@mantine/core";
import { Link } from "react-router";

import type { Pool } from "../../api/types";
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
  const { minutes, waits } = use.data;
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
      <Users title="In use by" rows={pool.used_by.map((one) => [one.run, one.attempts, null])} />
      <Users title="Waited for by" rows={waits.map((one) => [one.run, one.steps, one.since])} />
    </Stack>
  );
}

function Users({ title, rows }: { title: string; rows: [number, number, string | null][] }) {
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
                {count} {count === 1 ? "step" : "steps"}
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
