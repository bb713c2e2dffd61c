import { Button, Checkbox, Group, Select, Stack, Textarea, TextInput } from "@mantine/core";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";

import { ApiError } from "../../api/http";
import type { Workflow } from "../../api/types";
import { ErrorNote } from "../../components/Notes";
import { useStart } from "../../queries/runs";
import { fieldsOf, paramsOf, type Field } from "./fields";

interface Props {
  workflow: Workflow;
  onClose: () => void;
}

/** A form for a workflow's params; the service validates, and its words stand beside the fields. */
export function StartForm({ workflow, onClose }: Props) {
  const fields = useMemo(() => fieldsOf(workflow.params), [workflow.params]);
  const [filled, setFilled] = useState<Record<string, string>>(() =>
    Object.fromEntries(fields.map((field) => [field.name, field.initial])),
  );
  // One key for as long as the form is open: a double click, or a retry, makes one run.
  const [key, setKey] = useState(newKey);
  const start = useStart();
  const navigate = useNavigate();
  const problems = start.error instanceof ApiError ? start.error.problems : [];
  const problemOf = (name: string) =>
    problems
      .filter(({ pointer }) => pointer === `/${name}` || pointer.startsWith(`/${name}/`))
      .map(({ detail }) => detail)
      .join("; ");
  const known = fields.some((field) => problemOf(field.name));
  const send = () =>
    start.mutate(
      { workflow: workflow.name, params: paramsOf(fields, filled), key },
      { onSuccess: (run) => void navigate(`/runs/${run.number}`) },
    );
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
            value={filled[field.name] ?? ""}
            problem={problemOf(field.name)}
            onChange={(value) => {
              setFilled((before) => ({ ...before, [field.name]: value }));
              setKey(newKey());
            }}
          />
        ))}
        {start.error && !known && <ErrorNote error={start.error} />}
        <Group>
          <Button type="submit" loading={start.isPending}>
            Start run
          </Button>
          <Button variant="default" onClick={onClose}>
            Close
          </Button>
        </Group>
      </Stack>
    </form>
  );
}

interface InputProps {
  field: Field;
  value: string;
  problem: string;
  onChange: (value: string) => void;
}

function Input({ field, value, problem, onChange }: InputProps) {
  const shared = {
    label: field.label,
    description: field.help || undefined,
    error: problem || undefined,
  };
  switch (field.kind) {
    case "boolean":
      return (
        <Checkbox
          {...shared}
          checked={value === "true"}
          onChange={(event) => onChange(String(event.currentTarget.checked))}
        />
      );
    case "choice":
      return (
        <Select
          {...shared}
          withAsterisk={field.required}
          data={field.choices}
          value={value || null}
          onChange={(chosen) => onChange(chosen ?? "")}
        />
      );
    case "json":
      return (
        <Textarea
          {...shared}
          withAsterisk={field.required}
          autosize
          minRows={2}
          placeholder="JSON"
          value={value}
          onChange={(event) => onChange(event.currentTarget.value)}
        />
      );
    default:
      return (
        <TextInput
          {...shared}
          withAsterisk={field.required}
          inputMode={field.kind === "text" ? "text" : "decimal"}
          value={value}
          onChange={(event) => onChange(event.currentTarget.value)}
        />
      );
  }
}

function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(12))]
    .map((byte) => byte.toString(16).padStart(2, "0"))
    .join("");
}
