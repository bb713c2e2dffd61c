import { Checkbox, Select, Textarea, TextInput } from "@mantine/core";

import type { BadInput } from "../../api/http";
import type { Field } from "./paramFields";
import { FileInput } from "./FileInput";
import classes from "./StartForm.module.css";

interface InputProps {
  field: Field;
  /** The workflow or task that is started. */
  target?: string;
  value: string;
  problems: BadInput[];
  onChange: (value: string) => void;
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

/** What takes in one param. */
export function Input({ field, target, value, problems, onChange }: InputProps) {
  const error = faultOf(problems);
  const shared = { label: field.label, description: field.help || undefined, error };
  switch (field.kind) {
    case "file":
    case "rows":
      return (
        <FileInput field={field} target={target} value={value} error={error} onChange={onChange} />
      );
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
