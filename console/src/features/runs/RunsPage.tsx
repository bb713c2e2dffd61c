import { Group, Pill, Progress, Select, Stack, Table, Title } from "@mantine/core";
import { Link, useNavigate, useSearchParams } from "react-router";

import { RUN_STATES, type Run } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { LinkNote } from "../../components/LinkNote";
import { More } from "../../components/More";
import { Empty, ErrorNote } from "../../components/Notes";
import { State } from "../../components/State";
import { Ago, Took, Until } from "../../components/Time";
import { useLive } from "../../queries/live";
import { useWorkflows } from "../../queries/looms";
import { useRuns } from "../../queries/runs";
import { BulkActions } from "./BulkActions";
import classes from "./RunsPage.module.css";

/** All runs, newest first, live. The filter stands in the address. */
export function RunsPage() {
  const [query, setQuery] = useSearchParams();
  const filter = {
    state: query.get("state"),
    workflow: query.get("workflow"),
    schedule: query.get("schedule"),
  };
  const found = useRuns(filter);
  const workflows = useWorkflows();
  const link = useLive(null);
  const set = (name: string, value: string | null) =>
    setQuery((before) => {
      if (value) before.set(name, value);
      else before.delete(name);
      return before;
    });
  const runs = found.data?.pages.flatMap((page) => page.runs) ?? [];
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Runs
        </Title>
        <Group gap="xs">
          {/* Also where the list is empty: what was done may have emptied it. */}
          {(filter.state ?? filter.workflow) && !filter.schedule && (
            <BulkActions state={filter.state} workflow={filter.workflow} />
          )}
          {filter.schedule && (
            <Pill withRemoveButton size="md" onRemove={() => set("schedule", null)}>
              of schedule {filter.schedule}
            </Pill>
          )}
          <Select
            aria-label="State"
            placeholder="Any state"
            clearable
            w={150}
            data={RUN_STATES}
            value={filter.state}
            onChange={(value) => set("state", value)}
          />
          <Select
            aria-label="Workflow"
            placeholder="Any workflow"
            clearable
            w={230}
            data={(workflows.data?.workflows ?? []).map((one) => one.name)}
            value={filter.workflow}
            onChange={(value) => set("workflow", value)}
          />
        </Group>
      </Group>
      <LinkNote link={link} />
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !runs.length && <NoRuns filtered={Object.values(filter).some(Boolean)} />}
      {runs.length > 0 && (
        <div className={frame.frame}>
          <Table highlightOnHover verticalSpacing={7}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th className={frame.number}>Run</Table.Th>
                <Table.Th>Workflow</Table.Th>
                <Table.Th>State</Table.Th>
                <Table.Th>Progress</Table.Th>
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
      )}
      <More pages={found} label="Older runs" />
    </Stack>
  );
}

function RunRow({ run }: { run: Run }) {
  const navigate = useNavigate();
  const { total, done, failed } = run.progress;
  return (
    <Table.Tr className={classes.row} onClick={() => void navigate(`/runs/${run.number}`)}>
      <Table.Td className={frame.number}>
        <Link to={`/runs/${run.number}`} onClick={(event) => event.stopPropagation()}>
          {run.number}
        </Link>
      </Table.Td>
      <Table.Td>{run.workflow}</Table.Td>
      <Table.Td>
        <State state={run.state} />
      </Table.Td>
      <Table.Td>
        <Group gap="xs" wrap="nowrap">
          <Progress.Root w={110} size={7} aria-hidden>
            <Progress.Section value={(100 * done) / (total || 1)} color="var(--dye-done)" />
            <Progress.Section value={(100 * failed) / (total || 1)} color="var(--dye-failed)" />
          </Progress.Root>
          <span className={frame.faded}>{total ? `${done} of ${total}` : "–"}</span>
        </Group>
      </Table.Td>
      <Table.Td className={frame.faded}>
        {run.state === "scheduled" && run.start_at ? (
          <Until at={run.start_at} />
        ) : (
          <Ago at={run.created_at} />
        )}
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
