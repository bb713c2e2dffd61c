import { Group, Stack, Text, Title } from "@mantine/core";
import type { ReactNode } from "react";
import { Link } from "react-router";

import type { Minute, Run, RunState, StuckRun } from "../../api/types";
import { Chart } from "../../components/charts/Chart";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { State } from "../../components/State";
import { spell } from "../../components/durations";
import { percent } from "../../components/RunProgress";
import { Ago, Took } from "../../components/TimeAgo";
import { NO_FILTER } from "../../queries/queryClient";
import { useCounts, useOverview, useRuns } from "../../queries/runs";
import classes from "./OverviewPage.module.css";

const SHOWN = 8;
const DAY = { state: "failed", within: "24h" };

/** What runs, what failed, what does not go on by itself, and how the last hour was. */
export function OverviewPage() {
  const overview = useOverview();
  const failed = useRuns({ ...NO_FILTER, ...DAY });
  const running = useRuns({ ...NO_FILTER, state: "running" });
  const error = overview.error ?? failed.error ?? running.error;
  const minutes = overview.data?.minutes ?? [];
  return (
    <Stack gap="md">
      <Title order={1} size="h2">
        Overview
      </Title>
      {error && <ErrorNote error={error} />}
      <Counts />
      <div className={classes.columns}>
        <section className={classes.card}>
          <Title order={2} size="h5">
            Ended in each minute of the last hour
          </Title>
          <Throughput minutes={minutes} />
        </section>
        <section className={classes.card}>
          <Title order={2} size="h5">
            How long steps waited to begin
          </Title>
          <Waits minutes={minutes} />
        </section>
      </div>
      <div className={classes.columns}>
        <List
          title="Running"
          runs={running.data?.pages[0]?.runs}
          more="/runs?state=running"
          nothing={<NothingRuns />}
        />
        <List
          title="Failed since yesterday"
          runs={failed.data?.pages[0]?.runs}
          more={`/runs?${new URLSearchParams(DAY)}`}
          nothing="No run has failed since yesterday. Attempts that failed and were tried again are counted above."
        />
        <section className={classes.card} aria-label="Stuck">
          <Title order={2} size="h5">
            StuckRun
          </Title>
          {overview.data && <StuckList stuck={overview.data.stuck} />}
        </section>
      </div>
    </Stack>
  );
}

const COUNTED: RunState[] = ["running", "queued", "scheduled", "paused", "failed"];

function Counts() {
  const counts = useCounts();
  return (
    <div className={classes.counts}>
      {COUNTED.map((state) => (
        <Link key={state} to={`/runs?state=${state}`} className={classes.count}>
          <b>
            {counts.data ? counts.data.counts[state].toLocaleString("en") : "–"}
            {counts.data?.more.includes(state) && "+"}
          </b>
          <State state={state} />
        </Link>
      ))}
    </div>
  );
}

function Throughput({ minutes }: { minutes: Minute[] }) {
  const ended = minutes.reduce((sum, one) => sum + one.ended, 0);
  const failed = minutes.reduce((sum, one) => sum + one.failed, 0);
  const said = `${ended.toLocaleString("en")} attempts ended within the last hour, ${failed.toLocaleString("en")} of them failed`;
  return (
    <>
      <Text size="xs" c="dimmed">
        {said}
      </Text>
      <Chart
        minutes={minutes.map((one) => ({ ...one, well: one.ended - one.failed }))}
        kind="bars"
        label={said}
        series={[
          // What failed is what stands out behind those that ended well.
          { name: "ended", label: "failed", dye: "failed", told: "failed" },
          { name: "well", label: "ended well", dye: "done" },
        ]}
      />
    </>
  );
}

function Waits({ minutes }: { minutes: Minute[] }) {
  const begun = minutes.reduce((sum, one) => sum + one.begun, 0);
  const waited = minutes.reduce((sum, one) => sum + one.waited, 0);
  const longest = minutes.reduce((most, one) => Math.max(most, one.longest), 0);
  const said = begun
    ? `on average ${spell(waited / begun)}, at most ${spell(longest)}`
    : "nothing has begun within the last hour";
  return (
    <>
      <Text size="xs" c="dimmed">
        {said}
      </Text>
      <Chart
        minutes={minutes.map((one) => ({
          ...one,
          mean: one.begun ? round(one.waited / one.begun) : 0,
          longest: round(one.longest),
        }))}
        kind="lines"
        unit=" s"
        label={`waits: ${said}`}
        series={[
          { name: "longest", label: "longest", dye: "ready" },
          { name: "mean", label: "mean", dye: "running" },
        ]}
      />
    </>
  );
}

function round(seconds: number): number {
  return Math.round(seconds * 1000) / 1000;
}

interface ListProps {
  title: string;
  /** The first page; undefined while it is asked for. */
  runs: Run[] | undefined;
  /** Where all of them are listed. */
  more: string;
  nothing: ReactNode;
}

function List({ title, runs, more, nothing }: ListProps) {
  return (
    <section className={classes.card} aria-label={title}>
      <Group justify="space-between">
        <Title order={2} size="h5">
          {title}
        </Title>
        {runs && runs.length > SHOWN && <Link to={more}>all of them</Link>}
      </Group>
      {runs && !runs.length && (
        <Text size="sm" c="dimmed" component="div">
          {nothing}
        </Text>
      )}
      <ul className={classes.list}>
        {runs?.slice(0, SHOWN).map((run) => (
          <li key={run.number}>
            <RunLine number={run.number} workflow={run.workflow}>
              {run.ended_at ? (
                <Ago at={run.ended_at} />
              ) : (
                <>
                  {percent(run.progress.fraction)} · <Took from={run.started_at} to={null} />
                </>
              )}
            </RunLine>
            {run.state === "failed" && run.error?.message && (
              <Text size="xs" className="dyed" data-dye="failed" lineClamp={1}>
                {run.error.message}
              </Text>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

interface RunLineProps {
  number: number;
  workflow: string;
  /** What is told of it. */
  children: ReactNode;
}

function RunLine({ number, workflow, children }: RunLineProps) {
  return (
    <Group gap={8} justify="space-between" wrap="nowrap">
      <Link to={`/runs/${number}`} className={classes.run}>
        {number} {workflow.split("/")[1]}
      </Link>
      <Text size="xs" c="dimmed" component="span">
        {children}
      </Text>
    </Group>
  );
}

function NothingRuns() {
  return (
    <Empty title="Nothing runs" command="yarnloom start WORKFLOW -p name=value --watch">
      Start something from <Link to="/workflows">Workflows</Link>, from Python, or in a terminal:
    </Empty>
  );
}

function StuckList({ stuck }: { stuck: StuckRun[] }) {
  if (!stuck.length) {
    return (
      <Text size="sm" c="dimmed">
        Nothing is stuck: whatever waits goes on by itself.
      </Text>
    );
  }
  return (
    <ul className={classes.list}>
      {stuck.slice(0, SHOWN).map((one) => (
        <li key={one.run}>
          <RunLine number={one.run} workflow={one.workflow}>
            <State state={one.state} />
          </RunLine>
          {one.reasons.map((reason) => (
            <Text size="xs" key={reason}>
              {reason}
            </Text>
          ))}
        </li>
      ))}
    </ul>
  );
}
