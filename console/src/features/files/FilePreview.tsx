import { Code, Table, Text } from "@mantine/core";
import { useEffect, useState } from "react";

import { fileUrl } from "../../api/files";
import { withCode } from "../../api/session";
import type { Json, Preview } from "../../api/types";
import { usePreview } from "../../queries/keptFiles";
import classes from "./FilePreview.module.css";
import { ErrorNote } from "../../components/ErrorNotes";

interface Props {
  sha256: string;
  name: string;
}

/** What is in a file: a picture, the first rows of a table, the beginning of a text. */
export function FilePreview({ sha256, name }: Props) {
  const found = usePreview(sha256);
  if (found.error) return <ErrorNote error={found.error} />;
  return found.data ? <Shown preview={found.data} sha256={sha256} name={name} /> : null;
}

function Shown({ preview, sha256, name }: Props & { preview: Preview }) {
  switch (preview.kind) {
    case "picture":
      return <Shot path={fileUrl(sha256)} name={name} />;
    case "table":
      return <Rows columns={preview.columns} rows={preview.rows} more={preview.more} name={name} />;
    case "text":
      return (
        <>
          <Code block className={classes.text} tabIndex={0} aria-label={`what is in ${name}`}>
            {preview.text}
          </Code>
          {preview.more && <More />}
        </>
      );
    default:
      return (
        <Text size="sm" c="dimmed">
          A file of this kind is not shown here; download it.
        </Text>
      );
  }
}

/** A picture; the browser itself sends no session, so it gets a code for once. */
function Shot({ path, name }: { path: string; name: string }) {
  const [source, setSource] = useState("");
  useEffect(() => {
    let wanted = true;
    void withCode(path).then((found) => wanted && setSource(found));
    return () => {
      wanted = false;
    };
  }, [path]);
  return source ? <img src={source} alt={name} className={classes.picture} /> : null;
}

interface RowsProps {
  columns: string[];
  rows: (Json[] | null)[];
  more: boolean;
  name: string;
}

function Rows({ columns, rows, more, name }: RowsProps) {
  return (
    <>
      <div className={classes.table} tabIndex={0} role="region" aria-label={`rows of ${name}`}>
        <Table fz="xs" stickyHeader withColumnBorders verticalSpacing={3}>
          <Table.Thead>
            <Table.Tr>
              {columns.map((column, index) => (
                <Table.Th key={index}>{column}</Table.Th>
              ))}
            </Table.Tr>
          </Table.Thead>
          <Table.Tbody>
            {rows.map((row, index) => (
              <Table.Tr key={index}>
                {(row ?? []).map((cell, place) => (
                  <Table.Td key={place}>{textOf(cell)}</Table.Td>
                ))}
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </div>
      {more && <More />}
    </>
  );
}

function More() {
  return (
    <Text size="xs" c="dimmed" mt={6}>
      This is the beginning; the whole file can be downloaded.
    </Text>
  );
}

function textOf(cell: Json): string {
  return typeof cell === "string" ? cell : cell === null ? "" : JSON.stringify(cell);
}
