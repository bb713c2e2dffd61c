import { Button, Card, Group, Stack, Text, Title } from "@mantine/core";
import { Link, useSearchParams } from "react-router";

import type { Workflow } from "../../api/types";
import { Empty, ErrorNote } from "../../components/Notes";
import { Ago } from "../../components/Time";
import { useWorkflows } from "../../queries/looms";
import { StartForm } from "./StartForm";

/** The workflows that are published, each with a form that starts it. */
export function WorkflowsPage() {
  const found = useWorkflows();
  const [query, setQuery] = useSearchParams();
  const open = query.get("start");
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
      {workflows.map((workflow) => (
        <One
          key={workflow.name}
          workflow={workflow}
          open={open === workflow.name}
          onOpen={(wanted) => setQuery(wanted ? { start: workflow.name } : {})}
        />
      ))}
    </Stack>
  );
}

interface OneProps {
  workflow: Workflow;
  open: boolean;
  onOpen: (open: boolean) => void;
}

function One({ workflow, open, onOpen }: OneProps) {
  const runs = `/?${new URLSearchParams({ workflow: workflow.name })}`;
  return (
    <Card withBorder bg="var(--panel)" padding="md">
      <Group justify="space-between">
        <div>
          <Title order={2} size="h4">
            {workflow.name}
          </Title>
          <Text size="sm" c="dimmed">
            version {workflow.version} · published <Ago at={workflow.published_at} /> by{" "}
            {workflow.published_by} · {workflow.tasks.length} tasks ·{" "}
            <Link to={runs}>its runs</Link>
          </Text>
        </div>
        {!open && <Button onClick={() => onOpen(true)}>Start…</Button>}
      </Group>
      {open && <StartForm workflow={workflow} onClose={() => onOpen(false)} />}
    </Card>
  );
}
