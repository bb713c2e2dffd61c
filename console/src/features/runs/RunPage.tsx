import {
  Accordion,
  Anchor,
  Breadcrumbs,
  Group,
  SegmentedControl,
  Stack,
  Text,
  Title,
} from "@mantine/core";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { recordPath } from "../../api/http";
import type { EachPart, Part, Run } from "../../api/types";
import { FoldedValue } from "../values/FoldedValue";
import { Empty, ErrorNote } from "../../components/Notes";
import { Reasons } from "../../components/Reasons";
import { RunProgress } from "../../components/RunProgress";
import { State } from "../../components/State";
import { Ago, Took, Until } from "../../components/Time";
import { exactTime, Moment } from "../../components/time";
import { Weave } from "../../graph/Weave";
import { useLiveRun } from "../../queries/live";
import { useWhy } from "../../queries/limits";
import { useGraph, usePast, useRun } from "../../queries/runs";
import { ItemsDrawer } from "../items/ItemsDrawer";
import { StepDrawer } from "../steps/StepDrawer";
import { TimeView } from "../time/TimeView";
import { LookBack } from "./LookBack";
import { Record } from "./Record";
import { inItem } from "./place";
import { RunActions } from "./RunActions";
import classes from "./RunPage.module.css";

const ENDED = ["done", "failed", "cancelled"];
const HELD = ["pausing", "paused"];

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
  if (run.error) return <ErrorNote error={run.error} />;
  return run.data ? <Live run={run.data} /> : null;
}

function Live({ run }: { run: Run }) {
  useLiveRun(run.number);
  const [query] = useSearchParams();
  const open = query.has("step") || query.has("each");
  return (
    <Stack gap="sm" className={classes.page} data-beside={open || undefined}>
      <Head run={run} />
      <Outcome run={run} />
      {(!run.entered || HELD.includes(run.state)) && !ENDED.includes(run.state) && (
        <Held run={run.number} dye={run.state} />
      )}
      <Graph run={run} />
      <Values run={run} />
    </Stack>
  );
}

/** Why nothing of a run begins: it is paused, or others of its workflow are under way. */
function Held({ run, dye }: { run: number; dye: string }) {
  const why = useWhy(run, "");
  return why.data ? (
    <Text size="sm" className="dyed" data-dye={dye} role="status">
      {why.data.reasons.map((reason) => reason.text).join("; ")}
    </Text>
  ) : null;
}

/**
 * What the address bar holds: the item whose parts are shown, the step or each that is open, which
 * view it is, and the moment that is looked back at.
 */
function usePlace() {
  const [query, setQuery] = useSearchParams();
  const at = query.get("at") ?? "";
  const [step, each, view, then] = ["step", "each", "view", "then"].map((one) => query.get(one));
  const go = (place: Record<string, string | null>) => {
    const given = Object.entries({ at, view, then, ...place }).filter(([, value]) => value);
    setQuery(Object.fromEntries(given) as Record<string, string>, {
      replace: (step ?? each) !== null && place.at === undefined,
    });
  };
  const moment = then && !Number.isNaN(Date.parse(then)) ? then : null;
  return { at, step: step ?? null, each: each ?? null, view: view ?? null, then: moment, go };
}

function Graph({ run }: { run: Run }) {
  const { at, step, each, view, then, go } = usePlace();
  const past = usePast(run.number, at, then);
  const present = useGraph(run.number, at);
  // Until the moment that is looked back at is there, what was shown stays, and nothing jumps.
  const looking = then !== null && (past.data !== undefined || past.error !== null);
  const graph = looking ? past : present;
  const timed = view === "time";
  const show = (name: string) =>
    // A step in an item is found in the graph of that item.
    go({ ...(step ? inItem(step) : { each }), view: name === "time" ? name : null, then: null });
  return (
    <>
      <Group justify="space-between" gap="xs">
        <SegmentedControl
          size="xs"
          aria-label="View"
          value={timed ? "time" : "weave"}
          onChange={show}
          data={[
            { value: "weave", label: "Weave" },
            { value: "time", label: "Time" },
          ]}
        />
        {at && <Trail address={at} onGo={(address) => go({ at: address })} />}
      </Group>
      {graph.error && <ErrorNote error={graph.error} />}
      <div className={classes.graph} data-past={(!timed && then !== null) || undefined}>
        {timed ? (
          <TimeView
            key={at}
            run={run.number}
            item={at}
            chosen={step}
            onStep={(address) => go({ step: address })}
          />
        ) : (
          graph.data && (
            <Moment value={looking ? Date.parse(then) : null}>
              <Weave
                key={at}
                graph={graph.data}
                chosen={step ?? each}
                onStep={(address) => go({ step: address })}
                onEach={(address) => go({ each: address })}
                onItem={(address) => go({ at: address })}
              />
            </Moment>
          )
        )}
      </div>
      {!timed && run.started_at && (
        <LookBack run={run} then={then} onThen={(moment) => go({ step, each, then: moment })} />
      )}
      <StepDrawer
        run={run.number}
        ended={ENDED.includes(run.state)}
        address={step}
        past={then !== null}
        onClose={() => go({})}
      />
      <ItemsDrawer
        run={run.number}
        address={each}
        each={present.data && each !== null ? eachAt(present.data, each) : null}
        onClose={() => go({})}
        onItem={(address) => go({ at: address })}
      />
    </>
  );
}

/** The way from the run to the item that is shown; each piece leads back. */
function Trail({ address, onGo }: { address: string; onGo: (address: string) => void }) {
  const pieces = address.split("/");
  return (
    <Breadcrumbs separator="/" aria-label="Where this is">
      <Anchor component="button" size="sm" onClick={() => onGo("")}>
        whole run
      </Anchor>
      {pieces.map((piece, index) => {
        const to = pieces.slice(0, index + 1).join("/");
        const shown = decodeURIComponent(piece);
        return to === address || !piece.endsWith("]") ? (
          <Text size="sm" fw={650} key={to}>
            {shown}
          </Text>
        ) : (
          <Anchor component="button" size="sm" key={to} onClick={() => onGo(to)}>
            {shown}
          </Anchor>
        );
      })}
    </Breadcrumbs>
  );
}

function eachAt(part: Part, address: string): EachPart | null {
  if (part.kind === "each") return part.address === address ? part : null;
  const inner = part.kind === "step" ? [] : part.parts;
  const all = [...inner, ...Object.values(part.follow_ups ?? {})];
  return all.reduce<EachPart | null>((found, one) => found ?? eachAt(one, address), null);
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
          {run.workflow} at version {run.version}
          {run.round > 1 && ` · round ${run.round}`}
          {" · "}
          {run.state === "scheduled" ? "accepted" : "started"} <Ago at={run.created_at} /> by{" "}
          {run.started_by}
          {run.started_at && (
            <>
              {" "}
              · {run.ended_at ? "took" : "has run for"}{" "}
              <Took from={run.started_at} to={run.ended_at} />
            </>
          )}
        </Text>
        <Origin run={run} />
        {run.followups_failed > 0 && (
          <Text size="sm" className="dyed" data-dye="failed">
            {run.followups_failed === 1
              ? "A follow-up failed beside it"
              : `${run.followups_failed} follow-ups failed beside it`}
            ; open its step to retry it.
          </Text>
        )}
        {run.state !== "scheduled" && <RunProgress run={run} />}
      </div>
      <RunActions run={run} />
    </Group>
  );
}

/** Why there is a run, and when it may begin, where there is more to say than who started it. */
function Origin({ run }: { run: Run }) {
  if (!run.schedule && !run.after && !run.start_by && run.state !== "scheduled") return null;
  return (
    <Text size="sm" c="dimmed">
      {run.state === "scheduled" && run.start_at && (
        <>
          Starts <Until at={run.start_at} />, at {exactTime(run.start_at)}.{" "}
        </>
      )}
      {run.start_by && !run.started_at && `Not begun after ${exactTime(run.start_by)}. `}
      {run.schedule && (
        <>
          Of schedule <Link to="/schedules">{run.schedule}</Link>, planned for{" "}
          {run.planned_at && exactTime(run.planned_at)}.{" "}
        </>
      )}
      {run.after && (
        <>
          Tells of the end of <Link to={`/runs/${run.after}`}>run {run.after}</Link>.
        </>
      )}
    </Text>
  );
}

function Outcome({ run }: { run: Run }) {
  const [, setQuery] = useSearchParams();
  const late = run.state === "done" && run.stop_asked === "cancel";
  if (run.outcome && !ENDED.includes(run.state)) {
    return <Text size="sm">Its plan is {run.outcome}; what follows up is still running.</Text>;
  }
  if (run.state === "done" && run.failures_allowed) {
    return (
      <Text size="sm">
        {run.failures_allowed} {run.failures_allowed === 1 ? "item" : "items"} failed, as allowed.
      </Text>
    );
  }
  if (late) return <Text size="sm">It was told to cancel, too late: everything was done.</Text>;
  if (!run.error) return null;
  const step = run.error.step?.split("/").slice(1).join("/");
  return (
    <Text size="sm" className="dyed" data-dye={run.state} role="status">
      {step && (
        <>
          Failed at{" "}
          <a
            href={`?${new URLSearchParams(inItem(step)).toString()}`}
            onClick={(event) => {
              event.preventDefault();
              setQuery(inItem(step));
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
  const [, setQuery] = useSearchParams();
  const [open, setOpen] = useState(["params"]);
  const going = !ENDED.includes(run.state);
  const why = useWhy(run.number, "", going && open.includes("why"));
  return (
    <Accordion
      multiple
      value={open}
      onChange={setOpen}
      variant="contained"
      className={classes.values}
    >
      {going && (
        <Accordion.Item value="why">
          <Accordion.Control>What it waits for</Accordion.Control>
          <Accordion.Panel>
            {why.error && <ErrorNote error={why.error} />}
            {why.data && <Reasons why={why.data} onStep={(address) => setQuery(inItem(address))} />}
          </Accordion.Panel>
        </Accordion.Item>
      )}
      <FoldedValue title="Params" value={run.params} />
      <Record run={run.number} open={open} onStep={(address) => setQuery(inItem(address))} />
      {run.state === "done" && !run.output_left_out && (
        <FoldedValue title="Output" value={run.output} />
      )}
      <Text size="xs" c="dimmed" mt={6}>
        All that is known of this run:{" "}
        <Anchor href={recordPath(run.number)} download inherit>
          its record as JSON
        </Anchor>
      </Text>
    </Accordion>
  );
}
