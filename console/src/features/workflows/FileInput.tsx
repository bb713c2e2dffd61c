import { FileInput as MantineFileInput, Progress, Text } from "@mantine/core";
import { useState, type ReactNode } from "react";

import { sizeText, upload, type FileRef } from "../../api/files";
import type { Field } from "./paramFields";
import { RowsReading } from "./RowsReading";

interface Props {
  /** The workflow or task that is started; none shows no rows. */
  target?: string;
  field: Field;
  /** The file as JSON, as it stands among the params; empty for none. */
  value: string;
  error: ReactNode;
  onChange: (value: string) => void;
}

/** Takes a file, which goes up at once; of rows it also asks how they are read. */
export function FileInput({ target, field, value, error, onChange }: Props) {
  const [chosen, setChosen] = useState<File | null>(null);
  const [share, setShare] = useState<number | null>(null);
  const [fault, setFault] = useState("");
  const kept = value ? (JSON.parse(value) as FileRef) : null;
  const take = async (file: File | null) => {
    setChosen(file);
    setFault("");
    onChange("");
    if (!file) return;
    setShare(0);
    try {
      onChange(JSON.stringify(await upload(file, setShare)));
    } catch (trouble) {
      setFault(trouble instanceof Error ? trouble.message : "The file was not kept.");
    } finally {
      setShare(null);
    }
  };
  const rows = field.kind === "rows";
  const change = (file: FileRef) => onChange(JSON.stringify(file));
  return (
    <div>
      <MantineFileInput
        label={field.label}
        description={
          field.help || (rows ? "CSV or JSON Lines, checked whole before the start" : undefined)
        }
        withAsterisk={field.required}
        clearable
        placeholder="Choose a file"
        accept={rows ? ".csv,.tsv,.jsonl,.ndjson,text/csv" : undefined}
        value={chosen}
        error={fault || error}
        onChange={(file) => void take(file)}
      />
      {share !== null && <Progress value={share * 100} mt={6} size="sm" aria-label="upload" />}
      {kept && (
        <Text size="xs" c="dimmed" mt={4}>
          kept, {sizeText(kept.size)}
        </Text>
      )}
      {kept && rows && target && (
        <RowsReading target={target} param={field.name} file={kept} onChange={change} />
      )}
    </div>
  );
}
