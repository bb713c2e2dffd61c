import { Stack, Table, Text, Title } from "@mantine/core";
import { Link } from "react-router";

import type { Workflow } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { Ago } from "../../components/TimeAgo";
import { useWorkflows } from "../../queries/workflows";
import { pathOf } from "./paramFields";

/** The workflows that are published. */
export function WorkflowsPage() {
  const found = useWorkflows();
  const workflows = found.data?.workflows ?? [];
  return (
    <Stack gap="md">
      <Title order={1} size="h2">
        Workflows
      </Title>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !workflows.length && (
        <Empty title="No workflows yet" command="yarnloom publish MODULE:LOOM">
          Publish the loom in which your project declares them:
        </Empty>
      )}
      {workflows.length > 0 && (
        <div className={frame.frame} tabIndex={0} role="region" aria-label="workflows">
          <Table verticalSpacing={8} highlightOnHover>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Workflow</Table.Th>
                <Table.Th>Version</Table.Th>
                <Table.Th>Published</Table.Th>
                <Table.Th className={frame.number}>Tasks</Table.Th>
                <Table.Th className={frame.number}>Newest run</Table.Th>
                <Table.Th aria-label="Start" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {workflows.map((workflow) => (
                <Row key={workflow.name} workflow={workflow} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
    </Stack>
  );
}

function Row({ workflow }: { workflow: Workflow }) {
  const path = pathOf(workflow.name);
  return (
    <Table.Tr>
      <Table.Td>
        <Link to={path}>{workflow.name}</Link>
      </Table.Td>
      <Table.Td ff="monospace" fz="sm">
        {workflow.version}
      </Table.Td>
      <Table.Td className={frame.faded}>
        <Ago at={workflow.published_at} />
        <Text size="xs" c="dimmed">
          by {workflow.published_by}
        </Text>
      </Table.Td>
      <Table.Td className={frame.number}>{workflow.tasks.length}</Table.Td>
      <Table.Td className={frame.number}>
        {workflow.last_run ? (
          <Link to={`/runs/${workflow.last_run}`}>{workflow.last_run}</Link>
        ) : (
          "–"
        )}
      </Table.Td>
      <Table.Td className={frame.number}>
        <Link to={`${path}?start`}>Start…</Link>
      </Table.Td>
    </Table.Tr>
  );
}
