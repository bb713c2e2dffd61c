import { Group, List, Select, Table, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";

import type { FileRef } from "../../api/files";
import { ApiError, post } from "../../api/http";
import type { Json, RowsPreview } from "../../api/types";

interface Props {
  /** The workflow or task that is started. */
  target: string;
  param: string;
  file: FileRef;
  onChange: (file: FileRef) => void;
}

const CHOICES = {
  delimiter: [
    { value: ",", label: "commas" },
    { value: ";", label: "semicolons" },
    { value: "\t", label: "tabs" },
    { value: "|", label: "bars" },
  ],
  encoding: ["utf-8", "cp1252", "latin-1", "utf-16"],
  decimal: [
    { value: ".", label: "1.5" },
    { value: ",", label: "1,5" },
  ],
  bad: [
    { value: "refuse", label: "start nothing" },
    { value: "collect", label: "set aside" },
  ],
};
const LABELS = {
  delimiter: "Between cells",
  encoding: "Encoding",
  decimal: "Decimals",
  bad: "If rows are bad",
};

/** How a file of rows is read; what a run would get of it, before anything starts. */
export function RowsReading({ target, param, file, onChange }: Props) {
  const csv = file.media_type === "text/csv";
  const names = csv ? (["delimiter", "encoding", "decimal", "bad"] as const) : (["bad"] as const);
  return (
    <div>
      <Group gap={8} mt={6} align="flex-end">
        {names.map((name) => (
          <Select
            key={name}
            size="xs"
            w={107}
            label={LABELS[name]}
            aria-label={`${LABELS[name]} of ${file.name}`}
            data={CHOICES[name]}
            allowDeselect={false}
            value={file[name] ?? DEFAULTS[name]}
            onChange={(value) => onChange({ ...file, [name]: value ?? undefined })}
          />
        ))}
        {file.bad === "collect" && (
          <TextInput
            size="xs"
            w={110}
            label="At most"
            placeholder="any number"
            value={file.at_most_bad ?? ""}
            onChange={(event) => {
              const most = event.currentTarget.value.trim();
              onChange({ ...file, at_most_bad: most || undefined });
            }}
          />
        )}
      </Group>
      <FirstRows target={target} param={param} file={file} />
    </div>
  );
}

const DEFAULTS = { delimiter: ",", encoding: "utf-8", decimal: ".", bad: "refuse" };

function FirstRows({ target, param, file }: Omit<Props, "onChange">) {
  const [asked] = useDebouncedValue(JSON.stringify(file), 250);
  const { data, error } = useQuery({
    queryKey: ["preview-rows", target, param, asked],
    queryFn: () =>
      post<RowsPreview>("/files/preview-rows", { target, param, value: JSON.parse(asked) as Json }),
    retry: false,
  });
  if (error) {
    const problems = error instanceof ApiError ? error.problems : [];
    return <Fault text={problems[0]?.detail ?? error.message} />;
  }
  if (!data) return null;
  const columns = [...new Set(data.rows.flatMap((row) => Object.keys(asRow(row))))].slice(0, 6);
  const looked = data.good + data.bad;
  const many = looked.toLocaleString("en");
  const which = data.whole ? `all ${many} rows` : `the first ${many} rows`;
  const found = data.bad
    ? `${data.bad.toLocaleString("en")} of ${which} are bad`
    : `${which} are good`;
  return (
    <div data-testid="first-rows">
      <Text size="xs" c="dimmed" mt={6}>
        {[looked && found, data.remark].filter(Boolean).join("; ")}
      </Text>
      {data.rows.length > 0 && (
        <Table fz="xs" verticalSpacing={2} withRowBorders={false}>
          <Table.Thead>
            <Table.Tr>
              {columns.map((name) => (
                <Table.Th key={name}>{name}</Table.Th>
              ))}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {data.rows.slice(0, 4).map((row, index) => (
              <Table.Tr key={index}>
                {columns.map((name) => (
                  <Table.Td key={name}>{shown(asRow(row)[name])}</Table.Td>
                ))}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      )}
      {data.problems.length > 0 && (
        <List size="xs" className="dyed" data-dye="failed" aria-label="bad rows">
          {data.problems.slice(0, 5).map((one, index) => (
            <List.Item key={index}>
              {one.line ? `line ${one.line}` : "the file"}
              {one.column && `, ${one.column}`}: {one.message}
            </List.Item>
          ))}
        </List>
      )}
    </div>
  );
}

function Fault({ text }: { text: string }) {
  return (
    <Text size="xs" className="dyed" data-dye="failed" role="status" mt={6}>
      {text}
    </Text>
  );
}

function asRow(row: Json): Record<string, Json | undefined> {
  return row && typeof row === "object" && !Array.isArray(row) ? row : { value: row };
}

function shown(value: Json | undefined): string {
  if (value === null || value === undefined) return "";
  return typeof value === "string" ? value : JSON.stringify(value);
}
