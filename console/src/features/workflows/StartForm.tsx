import {
  Button,
  Checkbox,
  Group,
  Progress,
  Select,
  Stack,
  Text,
  Textarea,
  TextInput,
} from "@mantine/core";
import { useMemo, useState } from "react";
import { useNavigate } from "react-router";

import { ApiError, type BadInput } from "../../api/http";
import type { Checking, Workflow } from "../../api/types";
import { ErrorNote } from "../../components/Notes";
import { useStart } from "../../queries/runs";
import { fieldsOf, paramsOf, type Field } from "./fields";
import { FileInput } from "./FileInput";
import classes from "./StartForm.module.css";

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
  const [checking, setChecking] = useState<Checking[]>([]);
  const start = useStart(setChecking);
  const navigate = useNavigate();
  const problems = start.error instanceof ApiError ? start.error.problems : [];
  const problemsOf = (name: string) =>
    problems.filter(({ pointer }) => pointer === `/${name}` || pointer.startsWith(`/${name}/`));
  const known = fields.some((field) => problemsOf(field.name).length);
  const send = () => {
    setChecking([]);
    start.mutate(
      { workflow: workflow.name, params: paramsOf(fields, filled), key },
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
            value={filled[field.name] ?? ""}
            problems={problemsOf(field.name)}
            onChange={(value) => {
              setFilled((before) => ({ ...before, [field.name]: value }));
              setKey(newKey());
            }}
          />
        ))}
        {start.error && (!known || problems.some(({ line }) => line)) && (
          <ErrorNote error={start.error} />
        )}
        {start.isPending && checking.map((one) => <Check key={one.param} checking={one} />)}
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
  problems: BadInput[];
  onChange: (value: string) => void;
}

/** How far the rows of a file are checked. */
function Check({ checking }: { checking: Checking }) {
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

/** What is wrong with a field; of a file's rows one line for each. */
function faultOf(problems: BadInput[]) {
  if (!problems.length) return undefined;
  if (!problems.some(({ line }) => line)) return problems.map(({ detail }) => detail).join("; ");
  return (
    <span className={classes.faults}>
      {problems.map(({ detail }, index) => (
        <span key={index}>{detail}</span>
      ))}
    </span>
  );
}

function Input({ field, value, problems, onChange }: InputProps) {
  const error = faultOf(problems);
  const shared = { label: field.label, description: field.help || undefined, error };
  switch (field.kind) {
    case "file":
    case "rows":
      return <FileInput field={field} value={value} error={error} onChange={onChange} />;
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
