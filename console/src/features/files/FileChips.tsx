import { Button, Group, Modal, Text } from "@mantine/core";
import { IconDownload, IconFile, IconTable } from "@tabler/icons-react";
import { useState } from "react";

import { fileUrl, sizeText, type Named } from "../../api/files";
import { FilePreview } from "./FilePreview";
import { DownloadLink } from "../../components/DownloadLink";

/** The files that a value names; each opens what is in it. */
export function FileChips({ files }: { files: Named[] }) {
  const [open, setOpen] = useState<Named | null>(null);
  if (!files.length) return null;
  return (
    <Group gap={6} mb={8}>
      {files.map((file) => (
        <Button
          key={file.sha256}
          variant="default"
          size="compact-xs"
          leftSection={
            file.count === null ? <IconFile size={14} /> : <IconTable size={14} aria-hidden />
          }
          onClick={() => setOpen(file)}
        >
          {file.name} · {aboutFile(file)}
        </Button>
      ))}
      <FileModal file={open} onClose={() => setOpen(null)} />
    </Group>
  );
}

/** What is in a file, over the page. */
export function FileModal({ file, onClose }: { file: Named | null; onClose: () => void }) {
  return (
    <Modal
      opened={file !== null}
      onClose={onClose}
      size="xl"
      title={<Text fw={650}>{file?.name}</Text>}
      closeButtonProps={{ "aria-label": "Close the file" }}
    >
      {file && (
        <>
          <Group justify="space-between" mb="sm">
            <Text size="sm" c="dimmed">
              {aboutFile(file)} · sha256 {file.sha256.slice(0, 12)}…
            </Text>
            <DownloadLink path={fileUrl(file.sha256, file.name)} name={file.name} size="sm">
              <IconDownload size={14} /> Download
            </DownloadLink>
          </Group>
          <FilePreview sha256={file.sha256} name={file.name} />
        </>
      )}
    </Modal>
  );
}

/** How large a file is, or how many rows it has. */
export function aboutFile(file: { size: number; count: number | null }): string {
  const rows = file.count === null ? "" : `${file.count.toLocaleString("en")} rows, `;
  return `${rows}${sizeText(file.size)}`;
}
