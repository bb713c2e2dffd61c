import { Button, Group, List, Select, Stack, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useMemo, useState, type ChangeEvent } from "react";

import { ApiError } from "../../api/http";
import type { Json, Schedule } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { useWorkflows } from "../../queries/workflows";
import {
  useChangeSchedule,
  useNextTimes,
  useRemoveSchedule,
  type Times,
} from "../../queries/schedules";
import { fieldsOf, filledWith, paramsOf } from "../workflows/paramFields";
import { Input } from "../workflows/ParamInput";
import { plannedTime } from "./plannedTime";

interface Props {
  /** The schedule that is changed; null makes one. */
  schedule: Schedule | null;
  onClose: () => void;
}

const BUSY = [
  { value: "wait", label: "wait for its end" },
  { value: "skip", label: "skip this time" },
  { value: "replace", label: "replace it" },
  { value: "start", label: "start beside it" },
];
const MISSED = [
  { value: "one", label: "start the newest" },
  { value: "none", label: "leave them out" },
  { value: "all", label: "start all" },
];
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

/** What can be set of a schedule; its next times stand there before it is saved. */
export function ScheduleForm({ schedule, onClose }: Props) {
  const [given, setGiven] = useState({
    name: "",
    workflow: schedule?.workflow ?? "",
    cron: schedule?.cron ?? "",
    every: schedule?.every ?? "",
    first: schedule?.first ?? "",
    spread: schedule?.spread ?? "",
    zone: schedule?.zone ?? HERE,
    if_busy: schedule?.if_busy ?? "wait",
    missed: schedule?.missed ?? "one",
    note: schedule?.note ?? "",
    reason: "",
  });
  const set = (name: keyof typeof given) => (value: string | null) =>
    setGiven((before) => ({ ...before, [name]: value ?? "" }));
  const workflows = useWorkflows().data?.workflows ?? [];
  const schema = workflows.find((one) => one.name === given.workflow)?.params;
  const fields = useMemo(() => (schema ? fieldsOf(schema) : []), [schema]);
  const [typed, setTyped] = useState<Record<string, string>>({});
  const filled = { ...filledWith(fields, schedule?.params ?? {}), ...typed };
  const change = useChangeSchedule(schedule?.name ?? null);
  const problems = change.error instanceof ApiError ? change.error.problems : [];
  const problemOf = (name: string) =>
    problems.find(({ pointer }) => pointer === `/${name}`)?.detail;
  const text = (name: keyof typeof given) => ({
    value: given[name],
    error: problemOf(name),
    onChange: (event: ChangeEvent<HTMLInputElement>) => set(name)(event.currentTarget.value),
  });
  const paramProblems = (name: string) =>
    problems.filter(({ pointer }) => pointer.startsWith(`/params/${name}`));
  const known = problems.some(
    ({ pointer }) => pointer.startsWith("/params/") || pointer.slice(1) in given,
  );
  const send = (body: { [key: string]: Json }) =>
    change.mutate({ ...body, reason: given.reason }, { onSuccess: onClose });
  const changes = (): { [key: string]: Json } => {
    const { workflow, cron, every, first, spread, zone, if_busy, missed, note } = given;
    const params = paramsOf(fields, filled);
    const when = { cron, every, first, spread, zone };
    const all = { workflow, ...when, if_busy, missed, note, params };
    if (!schedule) return { name: given.name, ...all };
    const before: { [key: string]: Json } = { ...schedule, last: null, paused: null };
    const differs = ([key, value]: [string, Json]) =>
      key === "params"
        ? Object.keys(typed).length > 0
        : JSON.stringify(value) !== JSON.stringify(before[key]);
    return Object.fromEntries(Object.entries(all).filter(differs));
  };
  return (
    <form
      aria-label={schedule ? `change ${schedule.name}` : "make a schedule"}
      onSubmit={(event) => {
        event.preventDefault();
        send(changes());
      }}
    >
      <Stack gap="sm">
        {!schedule && <TextInput label="Name" {...text("name")} required />}
        <Select
          label="Workflow"
          data={workflows.map((one) => one.name)}
          value={given.workflow || null}
          error={problemOf("workflow")}
          onChange={set("workflow")}
          required
        />
        {fields.map((field) => (
          <Input
            key={field.name}
            field={field}
            value={filled[field.name] ?? ""}
            problems={paramProblems(field.name)}
            onChange={(value) => setTyped((before) => ({ ...before, [field.name]: value }))}
          />
        ))}
        <Group grow align="flex-start">
          <TextInput
            label="Cron"
            description="minute hour day month weekday"
            placeholder="30 2 * * *"
            {...text("cron")}
            required={!given.every}
          />
          <TextInput label="Zone" description="by whose clock" {...text("zone")} required />
        </Group>
        <Group grow align="flex-start">
          <TextInput
            label="Every"
            description="an interval in place of cron"
            placeholder="90m"
            {...text("every")}
          />
          <TextInput
            label="First"
            description="of the interval; else now"
            placeholder="2027-03-01T06:00"
            {...text("first")}
          />
          <TextInput
            label="Spread"
            description="start up to so much later"
            placeholder="5m"
            {...text("spread")}
          />
        </Group>
        <NextTimes times={given} />
        <Group grow align="flex-start">
          <Select
            label="While one is under way"
            data={BUSY}
            value={given.if_busy}
            allowDeselect={false}
            onChange={set("if_busy")}
          />
          <Select
            label="Missed times"
            data={MISSED}
            value={given.missed}
            error={problemOf("missed")}
            allowDeselect={false}
            onChange={set("missed")}
          />
        </Group>
        <TextInput
          label="Note"
          value={given.note}
          onChange={(event) => set("note")(event.currentTarget.value)}
        />
        <TextInput
          label="Reason"
          placeholder="for the record"
          value={given.reason}
          onChange={(event) => set("reason")(event.currentTarget.value)}
        />
        {change.error && !known && <ErrorNote error={change.error} />}
        <Group justify="flex-end">
          {schedule?.loom && Object.keys(schedule.by_hand).length > 0 && (
            <Button variant="default" size="xs" onClick={() => send({ as_declared: true })}>
              As declared
            </Button>
          )}
          <Button type="submit" size="xs" loading={change.isPending}>
            {schedule ? "Change" : "Make schedule"}
          </Button>
        </Group>
        {schedule && !schedule.loom && <Remove schedule={schedule} onClose={onClose} />}
      </Stack>
    </form>
  );
}

/** When it would come, while it is typed. */
function NextTimes({ times }: { times: Times }) {
  const { cron, every, first, zone } = times;
  const [wanted] = useDebouncedValue(
    [cron, every, first, zone].map((one) => one.trim()).join("\n"),
    200,
  );
  const [given = "", interval = "", start = "", where = ""] = wanted.split("\n");
  const found = useNextTimes({ cron: given, every: interval, first: start, zone: where });
  if (!given && !interval) return null;
  if (found.error) {
    const problems = found.error instanceof ApiError ? found.error.problems : [];
    return (
      <Text size="xs" className="dyed" data-dye="failed" role="status">
        {problems[0]?.detail ?? found.error.message}
      </Text>
    );
  }
  return (
    <div role="status" aria-label="Next times">
      <Text size="xs" c="dimmed">
        It would come
      </Text>
      <List size="xs" withPadding>
        {(found.data?.times ?? []).map((at) => (
          <List.Item key={at}>{plannedTime(at)}</List.Item>
        ))}
      </List>
      {found.data?.remarks.map((remark) => (
        <Text size="xs" key={remark}>
          {remark}
        </Text>
      ))}
    </div>
  );
}

function Remove({ schedule, onClose }: { schedule: Schedule; onClose: () => void }) {
  const remove = useRemoveSchedule(schedule.name);
  return (
    <Stack gap={4}>
      {remove.error && <ErrorNote error={remove.error} />}
      <Button
        variant="subtle"
        color="red"
        size="xs"
        loading={remove.isPending}
        onClick={() => remove.mutate(undefined, { onSuccess: onClose })}
      >
        Remove schedule {schedule.name}; its runs stay
      </Button>
    </Stack>
  );
}
