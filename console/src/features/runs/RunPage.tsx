import { Accordion, Group, Stack, Text, Title } from "@mantine/core";
import { useParams, useSearchParams } from "react-router";

import type { Run } from "../../api/types";
import { FoldedValue } from "../../components/FoldedValue";
import { Empty, ErrorNote } from "../../components/Notes";
import { State } from "../../components/State";
import { Ago, Took } from "../../components/Time";
import { Weave } from "../../graph/Weave";
import { useLive } from "../../queries/live";
import { useGraph, useRun } from "../../queries/runs";
import { StepDrawer } from "../steps/StepDrawer";
import { CancelButton } from "./CancelButton";
import { LinkNote } from "./LinkNote";
import classes from "./RunPage.module.css";

const ENDED = ["done", "failed", "cancelled"];

/** One run: what it is, how far, its graph, and the step that is open. */
export function RunPage() {
  const { number } = useParams();
  return /^[1-9]\d{0,15}$/.test(number ?? "") ? (
    <KnownRun number={Number(number)} key={number} />
  ) : (
    <Empty title={`“${number}” is no run number`}>A run has a number, such as 1042.</Empty>
  );
}

function KnownRun({ number }: { number: number }) {
  const run = useRun(number);
  const graph = useGraph(number);
  if (run.error) return <ErrorNote error={run.error} />;
  if (!run.data) return null;
  return (
    <Live run={run.data}>
      {graph.error && <ErrorNote error={graph.error} />}
      {graph.data && <Graph run={run.data} graph={graph.data} />}
    </Live>
  );
}

function Live({ run, children }: { run: Run; children: React.ReactNode }) {
  const link = useLive(run.number);
  const open = useSearchParams()[0].has("step");
  return (
    <Stack gap="sm" className={classes.page} data-beside={open || undefined}>
      <Head run={run} />
      <LinkNote link={link} />
      <Outcome run={run} />
      {children}
      <Values run={run} />
    </Stack>
  );
}

function Graph({ run, graph }: { run: Run; graph: Parameters<typeof Weave>[0]["graph"] }) {
  const [query, setQuery] = useSearchParams();
  const chosen = query.get("step");
  const choose = (address: string | null) =>
    setQuery(address ? { step: address } : {}, { replace: chosen !== null });
  return (
    <>
      <div className={classes.graph}>
        <Weave graph={graph} chosen={chosen} onChoose={choose} />
      </div>
      <StepDrawer run={run.number} address={chosen} onClose={() => choose(null)} />
    </>
  );
}

function Head({ run }: { run: Run }) {
  return (
    <Group justify="space-between" align="flex-start">
      <div>
        <Group gap="sm" align="baseline">
          <Title order={1} size="h2">
            Run {run.number}
          </Title>
          <Text size="lg">
            <State state={run.state} />
          </Text>
        </Group>
        <Text size="sm" c="dimmed">
          {run.workflow} at version {run.version} · {run.progress.done} of {run.progress.total}{" "}
          parts done · started <Ago at={run.created_at} /> by {run.started_by} · took{" "}
          <Took from={run.started_at} to={run.ended_at} />
        </Text>
      </div>
      {!ENDED.includes(run.state) && run.state !== "cancelling" && <CancelButton run={run} />}
    </Group>
  );
}

function Outcome({ run }: { run: Run }) {
  const [, setQuery] = useSearchParams();
  const late = run.state === "done" && run.stop_asked === "cancel";
  if (late) return <Text size="sm">It was told to cancel, too late: everything was done.</Text>;
  if (!run.error) return null;
  const step = run.error.step?.split("/").slice(1).join("/");
  return (
    <Text size="sm" className="dyed" data-dye={run.state} role="status">
      {step && (
        <>
          Failed at{" "}
          <a
            href={`?step=${encodeURIComponent(step)}`}
            onClick={(event) => {
              event.preventDefault();
              setQuery({ step });
            }}
          >
            {step}
          </a>
          :{" "}
        </>
      )}
      {run.error.type && run.error.type !== "Cancelled" && `${run.error.type}: `}
      {run.error.message}
    </Text>
  );
}

function Values({ run }: { run: Run }) {
  return (
    <Accordion multiple defaultValue={["params"]} variant="contained" className={classes.values}>
      <FoldedValue title="Params" value={run.params} />
      {run.state === "done" && <FoldedValue title="Output" value={run.output} />}
    </Accordion>
  );
}
