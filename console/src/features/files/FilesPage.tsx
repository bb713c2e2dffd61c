import { Stack, Table, Text, Title } from "@mantine/core";
import { useState } from "react";

import { sizeText, type Named } from "../../api/files";
import type { KeptFile } from "../../api/types";
import { FileModal } from "./FileChips";
import frame from "../../components/Frame.module.css";
import { NextPageButton } from "../../components/NextPageButton";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import opens from "../../components/FormButton.module.css";
import { Ago } from "../../components/TimeAgo";
import { useFiles } from "../../queries/keptFiles";

/** The files that are kept: params, what steps made, long lists. */
export function FilesPage() {
  const found = useFiles();
  const [open, setOpen] = useState<Named | null>(null);
  const files = found.data?.pages.flatMap((page) => page.files) ?? [];
  return (
    <Stack gap="md">
      <Title order={1} size="h2">
        Files
      </Title>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !files.length && (
        <Empty title="No files are kept" command="yarnloom upload PATH">
          A start form takes them, steps make them, and so does the command:
        </Empty>
      )}
      {files.length > 0 && (
        <div className={frame.frame}>
          <Table verticalSpacing={7} highlightOnHover>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>File</Table.Th>
                <Table.Th>Type</Table.Th>
                <Table.Th ta="right">Size</Table.Th>
                <Table.Th ta="right">Rows</Table.Th>
                <Table.Th>Used by</Table.Th>
                <Table.Th>Kept</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {files.map((file) => (
                <FileRow key={file.sha256} file={file} onOpen={() => setOpen(file)} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
      <NextPageButton pages={found} label="More files" />
      <FileModal file={open} onClose={() => setOpen(null)} />
    </Stack>
  );
}

function FileRow({ file, onOpen }: { file: KeptFile; onOpen: () => void }) {
  return (
    <Table.Tr onClick={onOpen} className={opens.row}>
      <Table.Td>
        <button type="button" className={opens.name}>
          {file.name}
        </button>
      </Table.Td>
      <Table.Td>
        <Text size="sm" c="dimmed">
          {file.media_type}
        </Text>
      </Table.Td>
      <Table.Td ta="right">{sizeText(file.size)}</Table.Td>
      <Table.Td ta="right">{file.count?.toLocaleString("en")}</Table.Td>
      <Table.Td>{file.runs === 1 ? "1 run" : file.runs ? `${file.runs} runs` : "no run"}</Table.Td>
      <Table.Td>
        <Ago at={file.kept_at} />
      </Table.Td>
    </Table.Tr>
  );
}
