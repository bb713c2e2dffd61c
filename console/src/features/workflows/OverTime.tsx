import { Table, Title } from "@mantine/core";

import type { Went } from "../../api/types";
import { spell } from "../../components/durations";
import { useOverTime } from "../../queries/workflows";

/** How a workflow's runs of each day went, and how the attempts of each of its steps did. */
export function OverTime({ name }: { name: string }) {
  const { data } = useOverTime(name);
  const days = data?.days.filter(({ ended }) => ended > 0) ?? [];
  if (!data || !days.length) return null;
  return (
    <section aria-label="over time">
      <Title order={2} size="h4" mb={4}>
        The last {data.days.length} days
      </Title>
      <Table.ScrollContainer minWidth={420}>
        <Table verticalSpacing={4}>
          <Table.Thead>
            <Table.Tr>
              <Table.Th>Runs and steps</Table.Th>
              {["Ended", "Failed", "Median", "95 of 100", "Waited"].map((one) => (
                <Table.Th key={one} ta="right">
                  {one}
                </Table.Th>
              ))}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {days.map((row) => (
              <Row key={row.day} name={`runs on ${row.day}`} went={row} />
            ))}
            {data.steps.map((row) => (
              <Row key={row.address} name={row.address} went={row} />
            ))}
          </Table.Tbody>
        </Table>
      </Table.ScrollContainer>
    </section>
  );
}

function Row({ name, went }: { name: string; went: Went }) {
  const time = (seconds: number | null) => (seconds === null ? "" : spell(seconds));
  const rate = went.failure_rate ? `${Number((100 * went.failure_rate).toPrecision(3))}%` : "";
  const cells = [
    went.ended.toLocaleString("en"),
    rate,
    ...[went.median, went.p95, went.waited].map(time),
  ];
  return (
    <Table.Tr>
      <Table.Td>{name}</Table.Td>
      {cells.map((cell, at) => (
        <Table.Td key={at} ta="right">
          {at === 1 && cell ? (
            <span className="dyed" data-dye="failed">
              {cell}
            </span>
          ) : (
            cell
          )}
        </Table.Td>
      ))}
    </Table.Tr>
  );
}
