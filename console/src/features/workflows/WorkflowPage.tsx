import { Anchor, Breadcrumbs, Button, Group, Stack, Text, Title } from "@mantine/core";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { Ago } from "../../components/TimeAgo";
import { Weave } from "../../graph/Weave";
import { NO_FILTER } from "../../queries/queryClient";
import { useWorkflow } from "../../queries/workflows";
import { useRuns } from "../../queries/runs";
import { RunTable } from "../runs/RunTable";
import { RunHistory } from "./RunHistory";
import { OverTime } from "./OverTime";
import { StartForm } from "./StartForm";
import classes from "./WorkflowPage.module.css";

const SHOWN = 5;

/** One workflow: its plan, a form that starts it, and how its newest runs went. */
export function WorkflowPage() {
  const { loom = "", name = "" } = useParams();
  const full = `${loom}/${name}`;
  const found = useWorkflow(full);
  const [query, setQuery] = useSearchParams();
  const starting = query.has("start");
  const [needed, setNeeded] = useState<number | null>(null);
  if (found.error) return <ErrorNote error={found.error} />;
  if (!found.data) return null;
  const workflow = found.data;
  return (
    <Stack gap="md">
      <Group justify="space-between" align="flex-start">
        <div>
          <Breadcrumbs separator="/">
            <Anchor component={Link} to="/workflows" size="sm">
              Workflows
            </Anchor>
            <Text size="sm">{loom}</Text>
          </Breadcrumbs>
          <Title order={1} size="h2">
            {name}
          </Title>
          <Text size="sm" c="dimmed">
            version {workflow.version} · published <Ago at={workflow.published_at} /> by{" "}
            {workflow.published_by}
          </Text>
        </div>
        {!starting && <Button onClick={() => setQuery({ start: "" })}>Start…</Button>}
      </Group>
      <div className={classes.columns} data-starting={starting || undefined}>
        <section
          className={classes.plan}
          style={needed === null ? undefined : { height: `clamp(240px, ${needed}px, 76vh)` }}
          aria-label="plan"
        >
          <Weave
            graph={workflow.plan}
            chosen={null}
            hold={null}
            onStep={() => undefined}
            onEach={() => undefined}
            onItem={() => undefined}
            onHeight={setNeeded}
          />
        </section>
        {starting && (
          <section className={classes.card}>
            <StartForm workflow={workflow} onClose={() => setQuery({})} />
          </section>
        )}
      </div>
      <OverTime name={full} />
      <Runs name={full} />
    </Stack>
  );
}

/** The newest runs: how long each took and how it ended, and a few of them as a list. */
function Runs({ name }: { name: string }) {
  const found = useRuns({ ...NO_FILTER, workflow: name });
  const runs = found.data?.pages[0]?.runs ?? [];
  if (!found.isSuccess) return null;
  if (!runs.length) {
    return (
      <Empty
        title="It has not run yet"
        command={`yarnloom start ${name.split("/")[1] ?? name} --watch`}
      />
    );
  }
  return (
    <>
      <Group justify="space-between">
        <Title order={2} size="h4">
          Runs
        </Title>
        <Link to={`/runs?${new URLSearchParams({ workflow: name })}`}>all its runs</Link>
      </Group>
      <RunHistory runs={runs} />
      <RunTable runs={runs.slice(0, SHOWN)} />
    </>
  );
}
