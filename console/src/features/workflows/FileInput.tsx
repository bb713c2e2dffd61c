import { FileInput as MantineFileInput, Group, Progress, Select, Text } from "@mantine/core";
import { useState, type ReactNode } from "react";

import { sizeText, upload, type FileRef } from "../../api/files";
import type { Field } from "./paramFields";

interface Props {
  field: Field;
  /** The file as JSON, as it stands among the params; empty for none. */
  value: string;
  error: ReactNode;
  onChange: (value: string) => void;
}

const DELIMITERS = [
  { value: ",", label: "commas" },
  { value: ";", label: "semicolons" },
  { value: "\t", label: "tabs" },
  { value: "|", label: "bars" },
];

/** Takes a file, which goes up at once; of CSV it also asks what stands between the cells. */
export function FileInput({ field, value, error, onChange }: Props) {
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
        <Group gap="sm" mt={4}>
          <Text size="xs" c="dimmed">
            kept, {sizeText(kept.size)}
          </Text>
          {rows && kept.media_type === "text/csv" && (
            <Select
              size="xs"
              w={150}
              aria-label={`what stands between the cells of ${kept.name}`}
              data={DELIMITERS}
              value={kept.delimiter ?? ","}
              onChange={(delimiter) => onChange(JSON.stringify({ ...kept, delimiter }))}
            />
          )}
        </Group>
      )}
    </div>
  );
}
