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
import { useMediaQuery } from "@mantine/hooks";
import { useEffect, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { recordPath } from "../../api/http";
import type { EachPart, Part, Run } from "../../api/types";
import { FoldedValue } from "../values/FoldedValue";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { WaitReasons } from "../../components/WaitReasons";
import { percent } from "../../components/RunProgress";
import { State } from "../../components/State";
import { Ago, Took, Until } from "../../components/TimeAgo";
import { exactTime, Moment } from "../../components/durations";
import { Weave } from "../../graph/Weave";
import { useLiveRun } from "../../queries/liveUpdates";
import { useWhy } from "../../queries/pools";
import { useGlance, useGraph, usePast, useRun } from "../../queries/runs";
import { ItemsDrawer } from "../items/ItemsDrawer";
import { StepDrawer } from "../steps/StepDrawer";
import { RunLog } from "../log/RunLog";
import { TimeView } from "../time/TimeView";
import { FailureKinds } from "./FailureKinds";
import { GlanceLine } from "./GlanceLine";
import { LookBack } from "./LookBack";
import { GraphOutline } from "./GraphOutline";
import { RunRecord } from "./RunRecord";
import { inItem } from "./stepLink";
import { RunActions } from "./RunActions";
import { showOnIcon } from "./tabIcon";
import { Tags } from "./Tags";
import { EndNotice } from "./EndNotice";
import classes from "./RunPage.module.css";
import { DownloadLink } from "../../components/DownloadLink";

const ENDED = ["done", "failed", "cancelled"];
const HELD = ["pausing", "paused"];
/** Pixels of the bar above the graph. */
const BAR = 42;

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
  useTitle(number, run.data);
  if (run.error) return <ErrorNote error={run.error} />;
  return run.data ? <Live run={run.data} /> : null;
}

/** The tab says how far the run is, and how it ended. */
function useTitle(number: number, run: Run | undefined): void {
  const known = run?.state === "running" && run.progress.fraction !== null;
  const far = known ? percent(run.progress.fraction) : run?.state;
  useEffect(() => {
    document.title = `${far ? `${far} · ` : ""}Run ${number} · Yarn Loom`;
  }, [far, number]);
  const state = run?.outcome ?? run?.state;
  const fraction = Math.floor(20 * (run?.progress.fraction ?? 0)) / 20;
  useEffect(() => {
    if (state === undefined) return undefined;
    showOnIcon(state, fraction);
    return () => showOnIcon(null, 0);
  }, [state, fraction]);
}

function Live({ run }: { run: Run }) {
  useLiveRun(run.number);
  const [query] = useSearchParams();
  const open = query.has("step") || query.has("each");
  return (
    <Stack gap={7} className={classes.page} data-beside={open || undefined}>
      <Head run={run} />
      {run.state !== "scheduled" && !query.has("then") && <Glance run={run} />}
      <Outcome run={run} />
      {!query.has("then") && <FailureKinds run={run} />}
      {(!run.entered || HELD.includes(run.state)) && !ENDED.includes(run.state) && (
        <Held run={run.number} dye={run.state} />
      )}
      <Graph run={run} />
      <Values run={run} />
    </Stack>
  );
}

/** The line that says it all; each piece leads to its place. */
function Glance({ run }: { run: Run }) {
  const { go } = usePlace();
  const graph = useGraph(run.number, "");
  return (
    <GlanceLine
      run={run}
      onPlace={(address) => go(graph.data ? placeOf(graph.data, address) : {})}
    />
  );
}

/** The place in the page of an address: a step, or the each around it. */
function placeOf(graph: Part, address: string): Record<string, string> {
  if (address.includes("[")) return { step: address };
  const each = eachAround(graph, address);
  return each === null ? { step: address } : { each };
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
 * view it is, the moment that is looked back at, and the text that the log is searched for.
 */
function usePlace() {
  const [query, setQuery] = useSearchParams();
  const at = query.get("at") ?? "";
  const [step, each, view, then, text] = ["step", "each", "view", "then", "text"].map((one) =>
    query.get(one),
  );
  const go = (place: Record<string, string | null>) => {
    const given = Object.entries({ at, view, then, text, ...place }).filter(([, value]) => value);
    setQuery(Object.fromEntries(given) as Record<string, string>, {
      replace: (step ?? each) !== null && place.at === undefined,
    });
  };
  const moment = then && !Number.isNaN(Date.parse(then)) ? then : null;
  return {
    at,
    step: step ?? null,
    each: each ?? null,
    view: view ?? null,
    then: moment,
    text: text ?? "",
    go,
  };
}

function Graph({ run }: { run: Run }) {
  const { at, step, each, view, then, text, go } = usePlace();
  const past = usePast(run.number, at, then);
  const present = useGraph(run.number, at);
  // Until the moment that is looked back at is there, what was shown stays, and nothing jumps.
  const looking = then !== null && (past.data !== undefined || past.error !== null);
  const graph = looking ? past : present;
  const glance = useGlance(run.number);
  const narrow = useMediaQuery("(max-width: 700px)", false, { getInitialValueInEffect: false });
  const shown = view ?? (narrow ? "outline" : "weave");
  // Neither is looked back at.
  const whole = shown === "time" || shown === "log";
  useOnlyStep(run, present.data);
  const [needed, setNeeded] = useState<number | null>(null);
  const height =
    shown === "weave" && needed !== null
      ? `clamp(240px, ${needed + BAR}px, max(536px, calc(100vh - 226px)))`
      : undefined;
  const show = (name: string) =>
    // A step in an item is found in the graph of that item.
    go({
      ...(step ? inItem(step) : { each }),
      view: name === (narrow ? "outline" : "weave") ? null : name,
      then: name === "time" || name === "log" ? null : then,
      text: null,
    });
  return (
    <>
      {graph.error && <ErrorNote error={graph.error} />}
      <div
        className={classes.frame}
        data-past={(!whole && then !== null) || undefined}
        style={{ height }}
      >
        <div className={classes.bar}>
          <SegmentedControl
            size="xs"
            aria-label="View"
            value={shown}
            onChange={show}
            data={[
              { value: "weave", label: "Weave" },
              { value: "outline", label: "Outline" },
              { value: "time", label: "Time" },
              { value: "log", label: "Log" },
            ]}
          />
          {at && <Trail address={at} onGo={(address) => go({ at: address })} />}
          {!whole && run.started_at && (
            <LookBack
              run={run}
              then={then}
              onThen={(moment) => go({ step, each, then: moment })}
              progress={looking ? past.data?.progress : undefined}
            />
          )}
        </div>
        <div className={classes.graph}>
          {shown === "log" ? (
            <RunLog
              key={run.round}
              run={run}
              item={at}
              text={text}
              onText={(wanted) => go({ text: wanted })}
              onStep={(address) => go({ step: address })}
            />
          ) : shown === "time" ? (
            <TimeView
              key={at}
              run={run.number}
              item={at}
              chosen={step}
              onStep={(address) => go({ step: address })}
              onEach={(address) => go({ each: address })}
            />
          ) : (
            graph.data && (
              <Moment value={looking ? Date.parse(then) : null}>
                {shown === "outline" ? (
                  <GraphOutline
                    graph={graph.data}
                    chosen={step ?? each}
                    onStep={(address) => go({ step: address })}
                    onEach={(address) => go({ each: address })}
                  />
                ) : (
                  <Weave
                    key={at}
                    graph={graph.data}
                    chosen={step ?? each}
                    hold={looking || at ? null : (glance.data?.held ?? null)}
                    onStep={(address) => go({ step: address })}
                    onEach={(address) => go({ each: address })}
                    onItem={(address) => go({ at: address })}
                    onHeight={setNeeded}
                  />
                )}
              </Moment>
            )
          )}
        </div>
      </div>
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

/** A run of a single step opens on it: its output and log are what there is to see. */
function useOnlyStep(run: Run, graph: Part | undefined): void {
  const [query, setQuery] = useSearchParams();
  const parts = graph && graph.kind !== "step" && graph.kind !== "each" ? graph.parts : [];
  const only = parts.length === 1 && parts[0]?.kind === "step" ? parts[0].address : null;
  const untouched = [...query.keys()].length === 0;
  useEffect(() => {
    if (only && untouched && run.started_at) setQuery({ step: only }, { replace: true });
    // Only when the page is opened: not when the step is closed.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [only]);
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

/** The each around a step of the plan, the outermost that the graph shows; null if none is. */
function eachAround(part: Part, address: string): string | null {
  if (part.kind === "each") return address.startsWith(`${part.address}/`) ? part.address : null;
  const inner = part.kind === "step" ? [] : part.parts;
  const all = [...inner, ...Object.values(part.follow_ups ?? {})];
  return all.reduce<string | null>((found, one) => found ?? eachAround(one, address), null);
}

function Head({ run }: { run: Run }) {
  const past = useSearchParams()[0].has("then");
  return (
    <Group justify="space-between" align="flex-start" wrap="nowrap">
      <div className={classes.head}>
        <Group gap="sm" align="baseline" className={classes.title}>
          <Title order={1} size="h3">
            Run {run.number}
          </Title>
          <Text size="md" component="span">
            <State state={run.state} />
          </Text>
          <Text size="sm" c="dimmed" component="span">
            {run.workflow} at version {run.version}
            {run.round > 1 && ` · round ${run.round}`}
            {" · "}
            {run.state === "scheduled" ? "accepted" : "started"}{" "}
            {(run.ended_at || !run.started_at) && <Ago at={run.created_at} />} by {run.started_by}
            {run.started_at && !past && (
              <>
                {" "}
                · {run.ended_at ? "took" : "runs for"}{" "}
                <Took from={run.started_at} to={run.ended_at} />
              </>
            )}
          </Text>
        </Group>
        <Origin run={run} />
        <Tags tags={run.tags} />
        {run.followups_failed > 0 && (
          <Text size="sm" className="dyed" data-dye="failed">
            {run.followups_failed === 1
              ? "A follow-up failed beside it"
              : `${run.followups_failed} follow-ups failed beside it`}
            ; open its step to retry it.
          </Text>
        )}
      </div>
      <Group gap="xs" wrap="nowrap">
        <EndNotice run={run} />
        <RunActions run={run} />
      </Group>
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
  if (late) return <Text size="sm">It was told to cancel, too late: everything was done.</Text>;
  // `FailureKinds` lists failed steps.
  if (!run.error || (run.state === "failed" && run.error.step)) return null;
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
  // What a reader of an ended run looks for first.
  const [open, setOpen] = useState(["params", "output"]);
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
            {why.data && (
              <WaitReasons why={why.data} onStep={(address) => setQuery(inItem(address))} />
            )}
          </Accordion.Panel>
        </Accordion.Item>
      )}
      <FoldedValue title="Params" value={run.params} />
      <RunRecord run={run.number} open={open} onStep={(address) => setQuery(inItem(address))} />
      {run.state === "done" && !run.output_left_out && (
        <FoldedValue title="Output" value={run.output} />
      )}
      <Text size="xs" c="dimmed" mt={6}>
        All that is known of this run:{" "}
        <DownloadLink path={recordPath(run.number)} inherit>
          its record as JSON
        </DownloadLink>
      </Text>
    </Accordion>
  );
}
