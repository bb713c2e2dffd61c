import { Accordion, Anchor, Button, Group, Stack, Table, Text, Title } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { Fragment, useState } from "react";
import { useSearchParams } from "react-router";

import { fileUrl, filesIn } from "../../api/files";
import type { Attempt, Json, Step } from "../../api/types";
import { aboutFile } from "../files/FileChips";
import { FilePreview } from "../files/FilePreview";
import { FoldedValue } from "../values/FoldedValue";
import { DownloadLink } from "../../components/DownloadLink";
import { ErrorNote } from "../../components/ErrorNotes";
import { SideDrawer } from "../../components/SideDrawer";
import { State } from "../../components/State";
import { StepProgress } from "../../components/StepProgress";
import { spell } from "../../components/durations";
import { Ago, Took } from "../../components/TimeAgo";
import { Value } from "../values/Value";
import { useWhy } from "../../queries/pools";
import { useFailures, useStep } from "../../queries/runs";
import { AttemptLog } from "./AttemptLog";
import { AttemptCode } from "./AttemptCode";
import { StepActions } from "./StepActions";
import { inItem } from "../runs/stepLink";
import classes from "./StepDrawer.module.css";

/** Ends of an attempt that are no trouble. */
const QUIET = ["done", "stopped", "handed_back", "called_again", "cancelled"];
const WAITS = ["waiting", "ready", "running", "backing_off", "resting", "paused"];

interface Props {
  run: number;
  /** Whether the run has ended. */
  ended: boolean;
  /** Address of the step within the run; null closes the drawer. */
  address: string | null;
  /** Whether the graph beside it shows a moment that has passed. */
  past: boolean;
  onClose: () => void;
}

/** Everything of one step, beside the graph. */
export function StepDrawer({ run, ended, address, past, onClose }: Props) {
  return (
    <SideDrawer
      title={address === null ? null : `${run}/${address}`}
      closeLabel="Close the step"
      onClose={onClose}
    >
      {past && (
        <Text size="sm" className="dyed" data-dye="paused" mb="xs">
          The graph shows a moment that has passed; this is the step as it is now.
        </Text>
      )}
      {address !== null && <AmongFailed run={run} address={address} />}
      {address !== null && <Inside run={run} address={address} ended={ended} key={address} />}
    </SideDrawer>
  );
}

/** The way to the failed step before and behind, by button and by the keys p and n. */
function AmongFailed({ run, address }: { run: number; address: string }) {
  const [query, setQuery] = useSearchParams();
  const failures = useFailures(run, true);
  const steps = failures.data?.steps ?? [];
  const at = steps.indexOf(address);
  const to = (step: string | undefined) => {
    if (step === undefined) return;
    setQuery(query.has("at") ? inItem(step) : { step }, { replace: true });
  };
  useHotkeys(
    at < 0
      ? []
      : [
          ["n", () => to(steps[at + 1])],
          ["p", () => to(steps[at - 1])],
        ],
  );
  const item = inItem(address);
  const leads = item.at !== undefined && query.get("at") !== item.at && (
    <Button size="compact-xs" variant="default" onClick={() => setQuery(item)}>
      The parts of this item
    </Button>
  );
  if (at < 0 || steps.length < 2) return leads ? <div className={classes.ways}>{leads}</div> : null;
  const failed = failures.data?.failed ?? steps.length;
  return (
    <Group gap="xs" mb="xs" role="group" aria-label="failed steps">
      <Button
        size="compact-xs"
        variant="default"
        disabled={at === 0}
        onClick={() => to(steps[at - 1])}
      >
        Previous
      </Button>
      <Button
        size="compact-xs"
        variant="default"
        disabled={at === steps.length - 1}
        onClick={() => to(steps[at + 1])}
      >
        Next
      </Button>
      <Text size="sm" c="dimmed">
        failed step {(at + 1).toLocaleString("en")} of {failed.toLocaleString("en")}
        {failures.data?.more && " or more"}; keys p and n
      </Text>
      {leads}
    </Group>
  );
}

function Inside({ run, address, ended }: { run: number; address: string; ended: boolean }) {
  const step = useStep(run, address);
  const [chosen, setChosen] = useState<number | null>(null);
  if (step.error) return <ErrorNote error={step.error} />;
  if (!step.data) return null;
  const attempts = step.data.attempts;
  const shown = attempts.find((one) => one.number === chosen) ?? attempts.at(-1);
  const quiet = shown?.outcome != null && QUIET.includes(shown.outcome);
  const fault = (quiet ? null : shown?.error) ?? step.data.error;
  const waits = WAITS.includes(step.data.state);
  return (
    <Stack gap="md" data-testid="step">
      <Group justify="space-between">
        <State state={step.data.state} stopAsked={step.data.stop_asked} />
        <Text size="sm" c="dimmed" ff="monospace">
          {step.data.task}
        </Text>
      </Group>
      <section className={classes.why} data-dye={step.data.state}>
        {waits ? <Waits run={run} address={address} /> : <Words step={step.data} />}
        {fault && <Fault fault={fault} />}
      </section>
      {step.data.progress && <StepProgress progress={step.data.progress} state={step.data.state} />}
      <StepActions run={run} address={address} step={step.data} ended={ended} />
      <Values
        input={step.data.input}
        output={step.data.output}
        ended={step.data.state === "done"}
        task={step.data.task}
        hash={shown?.code_hash ?? null}
      />
      {step.data.state === "done" && <Files output={step.data.output} />}
      {shown && (
        <section>
          <Title order={2} size="h5" mb={4}>
            Log of attempt #{shown.number}
          </Title>
          <AttemptLog
            key={shown.number}
            run={run}
            address={`${address}#${shown.number}`}
            live={shown.outcome === null}
          />
        </section>
      )}
      <Attempts attempts={attempts} folded={step.data.folded} shown={shown} onChoose={setChosen} />
    </Stack>
  );
}

/** What the step waits for, or on which worker it runs. */
function Waits({ run, address }: { run: number; address: string }) {
  const why = useWhy(run, address);
  if (why.error) return <ErrorNote error={why.error} />;
  const said = why.data?.waits.flatMap((one) => one.reasons) ?? [];
  return (
    <Stack gap={2} data-testid="why">
      {said.map((reason) => (
        <Text size="sm" key={reason.text}>
          {reason.text}
        </Text>
      ))}
    </Stack>
  );
}

/** How long the step took, or why it did not run. */
function Words({ step }: { step: Step }) {
  if (step.state === "skipped") {
    return <Text size="sm">Skipped: {(step.skip_reason ?? "").replace("_", " ")}.</Text>;
  }
  return (
    <Text size="sm" c="dimmed">
      {step.supplied && "Its output was given by hand. "}
      Began <Ago at={step.started_at} />, took <Took from={step.started_at} to={step.ended_at} />
      {step.worker && `, on worker ${step.worker}`}
    </Text>
  );
}

function Fault({ fault }: { fault: NonNullable<Step["error"]> }) {
  return (
    <section>
      <Text size="sm" className="dyed" data-dye="failed" fw={600} role="alert">
        {fault.type}: {fault.message}
        {fault.no_more_tries && ` (${fault.no_more_tries})`}
      </Text>
      {fault.traceback && <Value value={fault.traceback} label="traceback" />}
    </section>
  );
}

interface AttemptsProps {
  attempts: Attempt[];
  /** How many older ones are left out. */
  folded: number;
  /** The one whose log and error are shown. */
  shown: Attempt | undefined;
  onChoose: (number: number) => void;
}

/** Every attempt; a click shows its log and error. */
function Attempts({ attempts, folded, shown, onChoose }: AttemptsProps) {
  if (!attempts.length) return null;
  return (
    <section>
      <Title order={2} size="h5" mb={4}>
        Attempts
      </Title>
      {folded > 0 && (
        <Text size="xs" c="dimmed">
          {folded} before, each called again
        </Text>
      )}
      <Table fz="xs" verticalSpacing={4} horizontalSpacing={7} className={classes.attempts}>
        <Table.Thead>
          <Table.Tr>
            <Table.Th>#</Table.Th>
            <Table.Th>State</Table.Th>
            <Table.Th>Worker</Table.Th>
            <Table.Th>Began</Table.Th>
            <Table.Th>Took</Table.Th>
            <Table.Th>CPU</Table.Th>
            <Table.Th>Memory</Table.Th>
            <Table.Th>Code</Table.Th>
          </Table.Tr>
        </Table.Thead>
        <Table.Tbody>
          {attempts.map((one) => (
            <Fragment key={one.id}>
              <Table.Tr data-shown={one === shown || undefined}>
                <Table.Td>
                  <Anchor
                    component="button"
                    size="xs"
                    aria-label={`Show attempt ${one.number}`}
                    onClick={() => onChoose(one.number)}
                  >
                    #{one.number}
                  </Anchor>
                </Table.Td>
                <Table.Td>
                  {one.state.replace("_", " ")}
                  {one.round > 1 && ` · round ${one.round}`}
                </Table.Td>
                <Table.Td>{one.worker}</Table.Td>
                <Table.Td>
                  <Ago at={one.begun_at} />
                </Table.Td>
                <Table.Td>
                  <Took from={one.begun_at} to={one.ended_at} />
                </Table.Td>
                <Table.Td>{one.cpu_seconds === null ? "–" : spell(one.cpu_seconds)}</Table.Td>
                <Table.Td>
                  {one.memory_bytes === null ? "–" : `${Math.round(one.memory_bytes / 2 ** 20)} MB`}
                </Table.Td>
                <Table.Td ff="monospace">{one.code_hash.slice(0, 7)}</Table.Td>
              </Table.Tr>
              {one.error && (attempts.length > 1 || one.outcome !== "failed") && (
                <Table.Tr className={classes.error} data-shown={one === shown || undefined}>
                  <Table.Td colSpan={8}>
                    {one.error.type}: {one.error.message}
                  </Table.Td>
                </Table.Tr>
              )}
            </Fragment>
          ))}
        </Table.Tbody>
      </Table>
    </section>
  );
}

interface ValuesProps {
  input: Json;
  output: Json;
  ended: boolean;
  task: string;
  /** Of the code that the shown attempt ran; null without an attempt. */
  hash: string | null;
}

const FILES_SHOWN = 4;

/** The files among an output, with what is in them. */
function Files({ output }: { output: Json }) {
  const files = filesIn(output);
  if (!files.length) return null;
  return (
    <section>
      <Title order={2} size="h5" mb={4}>
        Files
      </Title>
      <Stack gap="sm">
        {files.slice(0, FILES_SHOWN).map((file) => (
          <div key={file.sha256}>
            <Group justify="space-between" mb={4}>
              <Text size="sm">
                {file.name} · {aboutFile(file)}
              </Text>
              <DownloadLink path={fileUrl(file.sha256, file.name)} name={file.name} size="sm">
                Download
              </DownloadLink>
            </Group>
            <FilePreview sha256={file.sha256} name={file.name} />
          </div>
        ))}
      </Stack>
      {files.length > FILES_SHOWN && (
        <Text size="xs" c="dimmed">
          and {files.length - FILES_SHOWN} more, among its output
        </Text>
      )}
    </section>
  );
}

/** What went in and came out, the files among that, and the code that did it. */
function Values({ input, output, ended, task, hash }: ValuesProps) {
  const [open, setOpen] = useState<string[]>([]);
  return (
    <Accordion
      multiple
      variant="contained"
      className={classes.values}
      value={open}
      onChange={setOpen}
    >
      {input !== null && <FoldedValue title="Input" value={input} />}
      {ended && <FoldedValue title="Output" value={output} />}
      {hash && (
        <Accordion.Item value="code">
          <Accordion.Control>Code</Accordion.Control>
          <Accordion.Panel>
            <AttemptCode task={task} hash={hash} wanted={open.includes("code")} />
          </Accordion.Panel>
        </Accordion.Item>
      )}
    </Accordion>
  );
}
