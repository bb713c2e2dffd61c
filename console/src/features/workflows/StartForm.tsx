import { Button, Group, Progress, Stack, Text, TextInput } from "@mantine/core";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";

import { ApiError } from "../../api/http";
import type { Check, Workflow } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { useStart } from "../../queries/runs";
import { fieldsOf, momentOf, newKey, paramsOf } from "./paramFields";
import { Input } from "./ParamInput";

interface Props {
  workflow: Workflow;
  onClose: () => void;
}

const WHEN = [
  { name: "at", label: "Start at", help: "By your clock; now if empty" },
  { name: "start_by", label: "Start by", help: "It is not begun after that time" },
] as const;

/** A form for a workflow's params; the service validates, and its words stand beside the fields. */
export function StartForm({ workflow, onClose }: Props) {
  const fields = useMemo(() => fieldsOf(workflow.params), [workflow.params]);
  const [filled, setFilled] = useState<Record<string, string>>(() =>
    Object.fromEntries(fields.map((field) => [field.name, field.initial])),
  );
  // One key for as long as the form is open: a double click, or a retry, makes one run.
  const [key, setKey] = useState(newKey);
  const [later, setLater] = useState({ open: false, at: "", start_by: "" });
  const [checking, setChecking] = useState<Check[]>([]);
  const start = useStart(setChecking);
  const navigate = useNavigate();
  const problems = start.error instanceof ApiError ? start.error.problems : [];
  const problemsOf = (name: string) =>
    problems.filter(({ pointer }) => pointer === `/${name}` || pointer.startsWith(`/${name}/`));
  const known = [...fields, ...WHEN].some(({ name }) => problemsOf(name).length);
  const send = () => {
    setChecking([]);
    start.mutate(
      {
        target: workflow.name,
        params: paramsOf(fields, filled),
        key,
        at: momentOf(later.at),
        start_by: momentOf(later.start_by),
      },
      { onSuccess: (run) => void navigate(`/runs/${run.number}`) },
    );
  };
  return (
    <form
      aria-label={`start ${workflow.name}`}
      onSubmit={(event) => {
        event.preventDefault();
        send();
      }}
    >
      <Stack gap="sm" mt="md" maw={520}>
        {fields.map((field) => (
          <Input
            key={field.name}
            field={field}
            target={workflow.name}
            value={filled[field.name] ?? ""}
            problems={problemsOf(field.name)}
            onChange={(value) => {
              setFilled((before) => ({ ...before, [field.name]: value }));
              setKey(newKey());
            }}
          />
        ))}
        {later.open && (
          <Group grow align="flex-start">
            {WHEN.map(({ name, label, help }) => (
              <TextInput
                key={name}
                type="datetime-local"
                label={label}
                description={help}
                value={later[name]}
                error={problemsOf(name)[0]?.detail}
                onChange={(event) => {
                  const { value } = event.currentTarget;
                  setLater((before) => ({ ...before, [name]: value }));
                  setKey(newKey());
                }}
              />
            ))}
          </Group>
        )}
        {start.error && (!known || problems.some(({ line }) => line)) && (
          <ErrorNote error={start.error} />
        )}
        {start.isPending && checking.map((one) => <Check key={one.param} checking={one} />)}
        <Group>
          <Button type="submit" loading={start.isPending}>
            {later.at ? "Start then" : "Start run"}
          </Button>
          {!later.open && (
            <Button variant="subtle" onClick={() => setLater({ ...later, open: true })}>
              Later…
            </Button>
          )}
          <Button variant="default" onClick={onClose}>
            Close
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

/** How far the rows of a file are checked. */
function Check({ checking }: { checking: Check }) {
  const { file, rows, read, size } = checking;
  return (
    <div role="status">
      <Text size="sm">
        Checking {file.name ?? "rows"}: {rows.toLocaleString("en")} rows
      </Text>
      <Progress value={size ? (100 * read) / size : 0} size="sm" mt={4} />
    </div>
  );
}
