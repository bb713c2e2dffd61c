import { Alert, Code, Stack, Text } from "@mantine/core";
import { IconAlertTriangle } from "@tabler/icons-react";
import type { ReactNode } from "react";

/** What went wrong, in the service's own words. */
export function ErrorNote({ error }: { error: Error }) {
  return (
    <Alert icon={<IconAlertTriangle size={18} />} color="red" variant="light" role="alert">
      {error.message}
    </Alert>
  );
}

interface EmptyProps {
  title: string;
  /** A command to paste. */
  command?: string;
  children?: ReactNode;
}

/** Nothing is here yet, and what to do next. */
export function Empty({ title, command, children }: EmptyProps) {
  return (
    <Stack align="center" gap="xs" py="xl">
      <Text fw={600}>{title}</Text>
      {children && (
        <Text c="dimmed" size="sm">
          {children}
        </Text>
      )}
      {command && <Code fz="sm">{command}</Code>}
    </Stack>
  );
}
