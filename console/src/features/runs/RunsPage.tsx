import { Group, Stack, Title } from "@mantine/core";
import { Link } from "react-router";

import { NextPageButton } from "../../components/NextPageButton";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import { useRuns } from "../../queries/runs";
import { BulkActions } from "./BulkActions";
import { useRunFilter } from "./runFilter";
import { FilterBar } from "./FilterBar";
import { ColumnChoice, RunTable } from "./RunTable";
import { SavedFilters } from "./SavedFilters";

/** All runs, newest first, live. The filter stands in the address. */
export function RunsPage() {
  const filtering = useRunFilter();
  const found = useRuns(filtering.filter);
  const runs = found.data?.pages.flatMap((page) => page.runs) ?? [];
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Runs
        </Title>
        {/* Also where the list is empty: what was done may have emptied it. */}
        <Group gap="xs">
          <SavedFilters filtering={filtering} />
          <ColumnChoice />
          {filtering.count > 0 && <BulkActions filter={filtering.filter} />}
        </Group>
      </Group>
      <FilterBar filtering={filtering} />
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !runs.length && !found.hasNextPage && (
        <NoRuns filtered={filtering.count > 0} />
      )}
      {runs.length > 0 && <RunTable runs={runs} />}
      <NextPageButton
        pages={found}
        label={filtering.filter.text ? "Search older runs" : "Older runs"}
      />
    </Stack>
  );
}

function NoRuns({ filtered }: { filtered: boolean }) {
  return filtered ? (
    <Empty title="No run fits the filter">Clear it to see all runs.</Empty>
  ) : (
    <Empty title="No runs yet" command="yarnloom start WORKFLOW -p name=value --watch">
      Start one from <Link to="/workflows">Workflows</Link>, from Python, or in a terminal:
    </Empty>
  );
}
