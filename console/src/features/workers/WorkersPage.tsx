import { Group, Stack, Table, Text, Title } from "@mantine/core";
import type { ReactNode } from "react";
import { Link } from "react-router";

import type { Worker } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { FormButton } from "../../components/FormButton";
import { ReasonForm } from "../../components/ReasonForm";
import { Ago, Took } from "../../components/TimeAgo";
import { useDrain, useWorkers } from "../../queries/pools";
import { inItem } from "../runs/stepLink";

/** Who runs attempts: how much each has in hand, and letting one end. */
export function WorkersPage() {
  const found = useWorkers();
  const workers = found.data?.workers ?? [];
  return (
    <Stack gap="md">
      <Title order={1} size="h2">
        Workers
      </Title>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !workers.length && (
        <Empty title="No worker is connected" command="yarnloom worker --load MODULE:LOOM">
          Steps wait until one is:
        </Empty>
      )}
      {workers.length > 0 && (
        <div className={frame.frame} tabIndex={0} role="region" aria-label="workers">
          <Table verticalSpacing={9}>
            <Table.Thead>
              <Table.Tr>
                {COLUMNS.map(({ label }) => (
                  <Table.Th key={label} aria-label={label ? undefined : "Changes"}>
                    {label}
                  </Table.Th>
                ))}
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {workers.map((worker) => (
                <WorkerRow key={worker.id} worker={worker} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
    </Stack>
  );
}

interface Column {
  label: string;
  faded?: boolean;
  cell: (worker: Worker) => ReactNode;
}

const COLUMNS: Column[] = [
  {
    label: "Worker",
    cell: (worker) => (
      <>
        <Text fw={650} size="sm">
          {worker.name}
        </Text>
        <Text size="xs" c="dimmed">
          {worker.facts.host}, process {worker.facts.pid}
        </Text>
        {worker.trouble && (
          <Text size="xs" className="dyed" data-dye="failed" maw={360}>
            {worker.trouble.split("\n")[0]}
          </Text>
        )}
      </>
    ),
  },
  {
    label: "In hand",
    cell: (worker) => (
      <>
        <Text size="sm">
          {worker.in_hand.length} of {worker.places} {worker.places === 1 ? "process" : "processes"}
          {worker.io_places > 0 && ` and ${worker.io_places} shared places`}
        </Text>
        <Running worker={worker} />
        <Idle worker={worker} />
      </>
    ),
  },
  {
    label: "Takes",
    cell: (worker) => (
      <>
        <Text size="sm">
          {worker.pools === null ? "all steps" : `only pools ${worker.pools.join(", ")}`}
        </Text>
        {worker.has.length > 0 && (
          <Text size="xs" c="dimmed">
            has {worker.has.join(", ")}
          </Text>
        )}
      </>
    ),
  },
  {
    label: "Loom and code",
    cell: (worker) => (
      <>
        {worker.facts.loom}
        <Text size="xs" c="dimmed" ff="monospace" title="a hash of all its code">
          {worker.code}
        </Text>
      </>
    ),
  },
  {
    label: "Heard of",
    faded: true,
    cell: (worker) => (worker.registered ? <Ago at={worker.seen_at} /> : "not since the restart"),
  },
  {
    label: "",
    cell: (worker) =>
      worker.draining ? (
        <Text size="sm" className="dyed" data-dye="paused">
          draining
        </Text>
      ) : (
        <DrainButton worker={worker} />
      ),
  },
];

function WorkerRow({ worker }: { worker: Worker }) {
  return (
    <Table.Tr aria-label={`worker ${worker.name}`}>
      {COLUMNS.map(({ label, faded, cell }) => (
        <Table.Td key={label} className={faded ? frame.faded : undefined}>
          {cell(worker)}
        </Table.Td>
      ))}
    </Table.Tr>
  );
}

/** Since when a worker has nothing in hand, and what it ran last. */
function Idle({ worker }: { worker: Worker }) {
  if (!worker.idle_since) return null;
  const { last } = worker;
  return (
    <Text size="xs" c="dimmed" component="div">
      idle for <Took from={worker.idle_since} to={null} />
      {last?.run && last.address && (
        <>
          {" · ran "}
          <Link
            to={`/runs/${last.run}?step=${encodeURIComponent(last.address.split("#")[0] ?? "")}`}
          >
            {last.run}/{last.address}
          </Link>{" "}
          last
        </>
      )}
    </Text>
  );
}

const SHOWN = 4;

/** What a worker runs, the longest first. */
function Running({ worker }: { worker: Worker }) {
  const runs = [...worker.runs].sort((a, b) =>
    (a.begun_at ?? "~") < (b.begun_at ?? "~") ? -1 : 1,
  );
  const more = worker.in_hand.length - Math.min(runs.length, SHOWN);
  return (
    <>
      {runs.slice(0, SHOWN).map(({ run, address, begun_at }) => (
        <Text size="xs" c="dimmed" key={`${run}/${address}`}>
          <Link to={linkTo(run, address)}>
            {run}/{decodeURIComponent(address)}
          </Link>{" "}
          {begun_at ? <Took from={begun_at} to={null} /> : "to begin"}
        </Text>
      ))}
      {more > 0 && (
        <Text size="xs" c="dimmed">
          and {more} more
        </Text>
      )}
    </>
  );
}

/** The run's page with a step open, in the graph of its item. */
function linkTo(run: number, address: string): string {
  const step = address.split("#")[0] ?? "";
  return `/runs/${run}?${new URLSearchParams(inItem(step)).toString()}`;
}

/** Lets a worker end, after saying what that does and asking why. */
function DrainButton({ worker }: { worker: Worker }) {
  const drain = useDrain(worker.id);
  return (
    <Group justify="flex-end">
      <FormButton label="Drain…">
        {(close) => (
          <ReasonForm
            words="It takes nothing new, and ends when what it runs has ended."
            yes={`Drain worker ${worker.name}`}
            no="Let it work"
            mutation={drain}
            onClose={close}
          />
        )}
      </FormButton>
    </Group>
  );
}
