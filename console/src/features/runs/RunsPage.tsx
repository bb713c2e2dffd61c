import { Group, Stack, Table, Title } from "@mantine/core";
import { Link, useNavigate } from "react-router";

import type { Run } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { More } from "../../components/More";
import { Empty, ErrorNote } from "../../components/Notes";
import { ShortProgress } from "../../components/RunProgress";
import { State } from "../../components/State";
import { Ago, Took, Until } from "../../components/Time";
import { useRuns } from "../../queries/runs";
import { BulkActions } from "./BulkActions";
import { useRunFilter } from "./filter";
import { FilterBar } from "./FilterBar";
import classes from "./RunsPage.module.css";

/** All runs, newest first, live. The filter stands in the address. */
export function RunsPage() {
  const filtering = useRunFilter();
  const found = useRuns(filtering.filter);
  const runs = found.data?.pages.flatMap((page) => page.runs) ?? [];
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Runs
        </Title>
        {/* Also where the list is empty: what was done may have emptied it. */}
        {filtering.count > 0 && <BulkActions filter={filtering.filter} />}
      </Group>
      <FilterBar filtering={filtering} />
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !runs.length && !found.hasNextPage && (
        <NoRuns filtered={filtering.count > 0} />
      )}
      {runs.length > 0 && <RunTable runs={runs} />}
      <More pages={found} label={filtering.filter.text ? "Search older runs" : "Older runs"} />
    </Stack>
  );
}

/** Runs, with what people compare. */
export function RunTable({ runs }: { runs: Run[] }) {
  return (
    <div className={frame.frame} tabIndex={0} role="region" aria-label="runs">
      <Table highlightOnHover verticalSpacing={7}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th className={frame.number}>Run</Table.Th>
            <Table.Th>Workflow</Table.Th>
            <Table.Th>State</Table.Th>
            <Table.Th>Progress</Table.Th>
            <Table.Th className={frame.number}>Attempts</Table.Th>
            <Table.Th>Started</Table.Th>
            <Table.Th className={frame.number}>Took</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {runs.map((run) => (
            <RunRow key={run.number} run={run} />
          ))}
        </Table.Tbody>
      </Table>
    </div>
  );
}

function RunRow({ run }: { run: Run }) {
  const navigate = useNavigate();
  const facts = [run.share, ...run.tags].filter(Boolean).join(" · ");
  return (
    <Table.Tr className={classes.row} onClick={() => void navigate(`/runs/${run.number}`)}>
      <Table.Td className={frame.number}>
        <Link to={`/runs/${run.number}`} onClick={(event) => event.stopPropagation()}>
          {run.number}
        </Link>
      </Table.Td>
      <Table.Td>
        {run.workflow}
        {facts && <div className={classes.sub}>{facts}</div>}
      </Table.Td>
      <Table.Td>
        <State state={run.state} />
      </Table.Td>
      <Table.Td>
        <ShortProgress run={run} />
      </Table.Td>
      <Table.Td className={`${frame.number} ${frame.faded}`}>
        {run.attempts ? run.attempts.toLocaleString("en") : "–"}
      </Table.Td>
      <Table.Td className={frame.faded}>
        {run.state === "scheduled" && run.start_at ? (
          <Until at={run.start_at} />
        ) : (
          <Ago at={run.created_at} />
        )}
        <div className={classes.sub}>{run.started_by}</div>
      </Table.Td>
      <Table.Td className={`${frame.number} ${frame.faded}`}>
        <Took from={run.started_at} to={run.ended_at} />
      </Table.Td>
    </Table.Tr>
  );
}

function NoRuns({ filtered }: { filtered: boolean }) {
  return filtered ? (
    <Empty title="No run fits the filter">Clear it to see all runs.</Empty>
  ) : (
    <Empty title="No runs yet" command="yarnloom start WORKFLOW -p name=value --watch">
      Start one from <Link to="/workflows">Workflows</Link>, from Python, or in a terminal:
    </Empty>
  );
}
