import { Button, Group, Stack, Table, Text, Title, Tooltip } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";

import type { Schedule } from "../../api/types";
import frame from "../../components/Frame.module.css";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { PauseButton, PausedNote } from "../../components/PauseButton";
import { SideDrawer } from "../../components/SideDrawer";
import { State } from "../../components/State";
import { Until } from "../../components/TimeAgo";
import { useChangeSchedule, useSchedules, useStartSchedule } from "../../queries/schedules";
import { newKey } from "../workflows/paramFields";
import { RunOutcomes } from "./RunOutcomes";
import { ScheduleForm } from "./ScheduleForm";
import { plannedTime } from "./plannedTime";

/** What starts by the clock: when next, what came of it last, and changing it. */
export function SchedulesPage() {
  const found = useSchedules();
  const schedules = found.data?.schedules ?? [];
  // The schedule that is changed, or empty for one that is made.
  const [open, setOpen] = useState<string | null>(null);
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Schedules
        </Title>
        <Button variant="default" size="xs" onClick={() => setOpen("")}>
          Make a schedule…
        </Button>
      </Group>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !schedules.length && (
        <Empty
          title="No schedules yet"
          command='loom.schedule("nightly", workflow="…", cron="30 2 * * *", zone="Europe/Lisbon")'
        >
          A schedule starts a workflow again and again by the clock. Declare one in a loom:
        </Empty>
      )}
      {schedules.length > 0 && (
        <div className={frame.frame} tabIndex={0} role="region" aria-label="schedules">
          <Table verticalSpacing={9}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Schedule</Table.Th>
                <Table.Th>When</Table.Th>
                <Table.Th>Next</Table.Th>
                <Table.Th>Last</Table.Th>
                <Table.Th aria-label="Changes" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {schedules.map((schedule) => (
                <Row key={schedule.name} schedule={schedule} onChange={setOpen} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
      <SideDrawer
        title={open === "" ? "Make a schedule" : open && `Change ${open}`}
        closeLabel="Close the form"
        onClose={() => setOpen(null)}
      >
        {open !== null && (
          <ScheduleForm
            key={open}
            schedule={schedules.find((one) => one.name === open) ?? null}
            onClose={() => setOpen(null)}
          />
        )}
      </SideDrawer>
    </Stack>
  );
}

interface RowProps {
  schedule: Schedule;
  onChange: (name: string) => void;
}

function Row({ schedule, onChange }: RowProps) {
  const runs = `/runs?${new URLSearchParams({ schedule: schedule.name })}`;
  const byHand = Object.keys(schedule.by_hand);
  return (
    <Table.Tr aria-label={`schedule ${schedule.name}`}>
      <Table.Td>
        <Text fw={650} size="sm">
          {schedule.name}
        </Text>
        <Text size="xs" c="dimmed">
          starts {schedule.workflow} · <Link to={runs}>its runs</Link>
        </Text>
        <Text size="xs" c="dimmed">
          {schedule.note}
        </Text>
        {schedule.loom && byHand.length > 0 && (
          <Text size="xs" c="dimmed">
            {byHand.join(" and ")} changed by hand
          </Text>
        )}
        {schedule.paused && <PausedNote pause={schedule.paused} />}
      </Table.Td>
      <Table.Td>
        <Text size="sm" ff="monospace">
          {schedule.every ? `every ${schedule.every}` : schedule.cron}
        </Text>
        <Text size="xs" c="dimmed">
          {schedule.zone}
        </Text>
      </Table.Td>
      <Table.Td>
        <Next schedule={schedule} />
      </Table.Td>
      <Table.Td>
        <Last schedule={schedule} />
        <RunOutcomes schedule={schedule.name} />
      </Table.Td>
      <Table.Td>
        <Group gap={6} justify="flex-end" wrap="nowrap">
          <StartNow schedule={schedule} />
          <Flow schedule={schedule} />
          <Button variant="default" size="xs" onClick={() => onChange(schedule.name)}>
            Change…
          </Button>
        </Group>
      </Table.Td>
    </Table.Tr>
  );
}

/** When it comes next; the times after that on hover. */
function Next({ schedule }: { schedule: Schedule }) {
  const [first, ...others] = schedule.next_times;
  if (!first) return <span className={frame.faded}>never</span>;
  return (
    <Tooltip
      multiline
      label={
        <>
          {others.map((at) => (
            <div key={at}>{plannedTime(at)}</div>
          ))}
        </>
      }
    >
      <div>
        <Text size="sm" c={schedule.paused ? "dimmed" : undefined}>
          {schedule.paused ? "if resumed " : <Until at={first} />}
        </Text>
        <Text size="xs" c="dimmed">
          {plannedTime(first)}
        </Text>
        {schedule.waiting_at && (
          <Text size="xs" c="dimmed">
            {plannedTime(schedule.waiting_at)} waits for{" "}
            <Link to={`/runs/${schedule.running[0]}`}>run {schedule.running[0]}</Link>
          </Text>
        )}
      </div>
    </Tooltip>
  );
}

function Last({ schedule }: { schedule: Schedule }) {
  const { last } = schedule;
  if (!last) return <span className={frame.faded}>–</span>;
  return (
    <>
      {last.run ? (
        <Group gap={6} wrap="nowrap">
          <Link to={`/runs/${last.run}`}>run {last.run}</Link>
          {last.state && <State state={last.state} />}
        </Group>
      ) : (
        <Text size="sm">passed over: {last.why}</Text>
      )}
      <Text size="xs" c="dimmed">
        {plannedTime(last.planned_at)}
        {schedule.passed_over > 0 && ` · ${schedule.passed_over} passed over in all`}
      </Text>
    </>
  );
}

function StartNow({ schedule }: { schedule: Schedule }) {
  const start = useStartSchedule(schedule.name);
  const [key, setKey] = useState(newKey);
  return (
    <Tooltip label={start.error?.message ?? "Start what it starts, now"}>
      <Button
        variant="default"
        size="xs"
        loading={start.isPending}
        color={start.error ? "red" : undefined}
        onClick={() => start.mutate(key, { onSettled: () => setKey(newKey()) })}
      >
        Start now
      </Button>
    </Tooltip>
  );
}

function Flow({ schedule }: { schedule: Schedule }) {
  const change = useChangeSchedule(schedule.name);
  return <PauseButton paused={schedule.paused !== null} change={change} />;
}
