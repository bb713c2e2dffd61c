import { ActionIcon, Button, Group, Stack, Text, TextInput } from "@mantine/core";
import { IconTrash } from "@tabler/icons-react";
import { useState } from "react";

import type { SavedFilter } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { useDropFilter, useSavedFilters, useSaveFilter } from "../../queries/savedFilters";
import type { RunFiltering } from "./runFilter";
import classes from "./RunsPage.module.css";

/** The saved filters, to be chosen and dropped, and a name for the one that is set. */
export default function SavedFilterChoice({
  filtering,
  onClose,
}: {
  filtering: RunFiltering;
  onClose: () => void;
}) {
  const { filter, count, open } = filtering;
  const saved = useSavedFilters();
  const save = useSaveFilter();
  const drop = useDropFilter();
  const [name, setName] = useState(filter.saved ?? "");
  const known = saved.data?.filters ?? [];
  const base = known.find((one) => one.name === filter.saved) ?? null;
  const error = saved.error ?? save.error ?? drop.error;
  const keep = () =>
    save.mutate(
      { name: name.trim(), filter, base },
      {
        onSuccess: (kept) => {
          open(kept.name);
          onClose();
        },
      },
    );
  return (
    <Stack gap="xs">
      {saved.isSuccess && !known.length && (
        <Text size="sm" c="dimmed">
          None is saved yet. Everybody sees the saved ones.
        </Text>
      )}
      {known.map((one) => (
        <Group key={one.name} gap={4} wrap="nowrap" justify="space-between">
          <button
            type="button"
            className={classes.saved}
            aria-current={one.name === filter.saved || undefined}
            onClick={() => {
              open(one.name);
              onClose();
            }}
          >
            {one.name}
            <div className={classes.sub}>{said(one)}</div>
          </button>
          <ActionIcon
            variant="subtle"
            color="gray"
            aria-label={`Drop ${one.name}`}
            onClick={() => drop.mutate(one.name)}
          >
            <IconTrash size={15} />
          </ActionIcon>
        </Group>
      ))}
      {count > 0 && (
        <form
          onSubmit={(event) => {
            event.preventDefault();
            if (name.trim()) keep();
          }}
        >
          <Group gap="xs" wrap="nowrap" align="flex-end">
            <TextInput
              label="Save this filter as"
              placeholder="failed tonight"
              value={name}
              maxLength={60}
              style={{ flex: 1 }}
              onChange={(event) => setName(event.currentTarget.value)}
            />
            <Button type="submit" size="sm" disabled={!name.trim()} loading={save.isPending}>
              {known.some((one) => one.name === name.trim()) ? "Replace" : "Save"}
            </Button>
          </Group>
        </form>
      )}
      {error && <ErrorNote error={error} />}
    </Stack>
  );
}

/** What a saved filter says, on one line. */
function said({ wanted }: SavedFilter): string {
  const pieces = Object.entries(wanted).map(([name, value]) => {
    if (name === "without_reports") return "";
    if (name === "followups_failed") return "a follow-up failed";
    const text = Array.isArray(value) ? value.join(" or ") : String(value);
    return name === "states" ? text : `${name} ${text}`;
  });
  return pieces.filter(Boolean).join(" · ") || "all runs";
}
