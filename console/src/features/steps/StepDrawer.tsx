import { Accordion, Group, Stack, Table, Text, Title } from "@mantine/core";

import type { Attempt, Json, Step } from "../../api/types";
import { FoldedValue } from "../../components/FoldedValue";
import { ErrorNote } from "../../components/Notes";
import { SideDrawer } from "../../components/SideDrawer";
import { State } from "../../components/State";
import { spell } from "../../components/time";
import { Ago, Took } from "../../components/Time";
import { Value } from "../../components/Value";
import { useStep } from "../../queries/runs";
import { AttemptLog } from "./AttemptLog";
import classes from "./StepDrawer.module.css";

interface Props {
  run: number;
  /** Address of the step within the run; null closes the drawer. */
  address: string | null;
  onClose: () => void;
}

/** Everything of one step, beside the graph. */
export function StepDrawer({ run, address, onClose }: Props) {
  return (
    <SideDrawer
      title={address === null ? null : `${run}/${address}`}
      closeLabel="Close the step"
      onClose={onClose}
    >
      {address !== null && <Inside run={run} address={address} />}
    </SideDrawer>
  );
}

function Inside({ run, address }: { run: number; address: string }) {
  const step = useStep(run, address);
  if (step.error) return <ErrorNote error={step.error} />;
  if (!step.data) return null;
  const newest = step.data.attempts.at(-1);
  return (
    <Stack gap="md" data-testid="step">
      <Group justify="space-between">
        <State state={step.data.state} stopAsked={step.data.stop_asked} />
        <Text size="sm" c="dimmed" ff="monospace">
          {step.data.task}
        </Text>
      </Group>
      <Words step={step.data} />
      {step.data.error && <Fault fault={step.data.error} />}
      {newest && (
        <section>
          <Title order={2} size="h5" mb={4}>
            Log of attempt #{newest.number}
          </Title>
          <AttemptLog run={run} address={`${address}#${newest.number}`} />
        </section>
      )}
      <Attempts attempts={step.data.attempts} />
      <Values
        input={step.data.input}
        output={step.data.output}
        ended={step.data.state === "done"}
      />
    </Stack>
  );
}

/** What the step waits for, or how long it took. */
function Words({ step }: { step: Step }) {
  const text: Partial<Record<Step["state"], string>> = {
    waiting: "Waits for the steps before it.",
    ready: step.worker
      ? `Handed to worker ${step.worker}.`
      : "Waits for a worker with a free place.",
    skipped: `Skipped: ${(step.skip_reason ?? "").replace("_", " ")}.`,
  };
  if (text[step.state]) return <Text size="sm">{text[step.state]}</Text>;
  return (
    <Text size="sm" c="dimmed">
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
      </Text>
      {fault.traceback && <Value value={fault.traceback} label="traceback" />}
    </section>
  );
}

function Attempts({ attempts }: { attempts: Attempt[] }) {
  if (!attempts.length) return null;
  return (
    <section>
      <Title order={2} size="h5" mb={4}>
        Attempts
      </Title>
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
            <Table.Tr key={one.id}>
              <Table.Td>{one.number}</Table.Td>
              <Table.Td>
                {one.state.replace("_", " ")}
                {one.error && one.outcome !== "failed" && `: ${one.error.message}`}
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
}

function Values({ input, output, ended }: ValuesProps) {
  return (
    <Accordion multiple variant="separated" className={classes.values}>
      {input !== null && <FoldedValue title="Input" value={input} />}
      {ended && <FoldedValue title="Output" value={output} />}
    </Accordion>
  );
}
