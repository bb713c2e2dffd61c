import { Button, Chip, Group, Pill, Select, Stack } from "@mantine/core";
import { IconSearch } from "@tabler/icons-react";

import { RUN_STATES, type RunState } from "../../api/types";
import { State } from "../../components/State";
import { TypedInput } from "../../components/TypedInput";
import { useWorkflows } from "../../queries/workflows";
import { RUN_FILTERS } from "../../queries/queryClient";
import { useCounts } from "../../queries/runs";
import { SPANS, type RunFiltering } from "./runFilter";
import classes from "./RunsPage.module.css";

/** What limits the list of runs: by state with how many they are, by text, workflow, time and more. */
export function FilterBar({ filtering }: { filtering: RunFiltering }) {
  const { filter, count, set, clear } = filtering;
  const workflows = useWorkflows();
  return (
    <Stack gap="xs">
      <Group justify="space-between" gap="xs">
        <States filtering={filtering} />
        <Group gap={6}>
          <Chip
            size="sm"
            variant="outline"
            checked={!!filter.followups_failed}
            onChange={(on) => set("followups_failed", on ? "true" : null)}
          >
            a follow-up failed
          </Chip>
          <Chip
            size="sm"
            variant="outline"
            checked={!!filter.reports}
            onChange={(on) => set("reports", on ? "shown" : null)}
          >
            with those that tell of an end
          </Chip>
        </Group>
      </Group>
      <Group gap="xs">
        <TypedInput
          label="Text"
          placeholder="number, param, tag, error…"
          width={230}
          icon={<IconSearch size={15} />}
          value={filter.text ?? ""}
          onSettled={(text) => set("text", text || null)}
        />
        <Select
          aria-label="Workflow"
          placeholder="Any workflow"
          clearable
          searchable
          w={230}
          data={(workflows.data?.workflows ?? []).map((one) => one.name)}
          value={filter.workflow}
          onChange={(value) => set("workflow", value)}
        />
        <Select
          aria-label="Started"
          placeholder="Any time"
          clearable
          w={150}
          data={withOther(filter.within)}
          value={filter.within}
          onChange={(span) => set("within", span)}
        />
        <TypedInput
          label="Who"
          placeholder="started by"
          value={filter.who ?? ""}
          onSettled={(who) => set("who", who || null)}
        />
        <TypedInput
          label="Key"
          placeholder="start key"
          value={filter.key ?? ""}
          onSettled={(key) => set("key", key || null)}
        />
        <TypedInput
          label="Priority"
          placeholder="priority"
          width={90}
          value={filter.priority ?? ""}
          onSettled={(number) => set("priority", /^-?\d+$/.test(number) ? number : null)}
        />
        {RUN_FILTERS.map((known) => {
          const value = filter[known.name];
          if (!value || !("said" in known)) return null;
          return (
            <Pill
              key={known.name}
              withRemoveButton
              size="md"
              onRemove={() => set(known.name, null)}
            >
              {known.said(value)}
            </Pill>
          );
        })}
        {count > 0 && (
          <Button variant="subtle" size="xs" onClick={clear}>
            Clear
          </Button>
        )}
      </Group>
    </Stack>
  );
}

/** The spans that can be chosen, and the one that the address has besides. */
function withOther(within: string | null) {
  const known = !within || SPANS.some(({ value }) => value === within);
  return known ? SPANS : [...SPANS, { label: `last ${within}`, value: within }];
}

/** One state, or all; each with how many runs are in it, of all that there are. */
function States({ filtering: { filter, set } }: { filtering: RunFiltering }) {
  const counts = useCounts();
  const shown = RUN_STATES.filter(
    (state) => ALWAYS.includes(state) || state === filter.state || counts.data?.counts[state],
  );
  const alone = Object.entries(filter).every(([name, value]) => name === "state" || !value);
  const many = (state: RunState) => {
    if (!alone || !counts.data) return null;
    const count = counts.data.counts[state].toLocaleString("en");
    return (
      <span className={classes.count}>
        {counts.data.more.includes(state) ? `${count}+` : count}
      </span>
    );
  };
  return (
    <Chip.Group
      value={filter.state ?? "all"}
      onChange={(value) => set("state", value === "all" ? null : String(value))}
    >
      <Group gap={6} role="radiogroup" aria-label="State">
        <Chip value="all" size="sm" variant="outline">
          all
        </Chip>
        {shown.map((state) => (
          <Chip key={state} value={state} size="sm" variant="outline" icon={null}>
            <span className={classes.chip}>
              <State state={state} />
              {many(state)}
            </span>
          </Chip>
        ))}
      </Group>
    </Chip.Group>
  );
}

const ALWAYS: RunState[] = ["running", "done", "failed", "cancelled"];
