import { Group } from "@mantine/core";
import { Link } from "react-router";

import { State } from "../../components/State";
import { exactTime } from "../../components/durations";
import { NO_FILTER } from "../../queries/queryClient";
import { useRuns } from "../../queries/runs";

const SHOWN = 10;

/** How the newest runs of a schedule ended, oldest first. */
export function RunOutcomes({ schedule }: { schedule: string }) {
  const found = useRuns({ ...NO_FILTER, schedule });
  const runs = (found.data?.pages[0]?.runs ?? []).slice(0, SHOWN).reverse();
  return (
    <Group gap={3} wrap="nowrap" role="group" aria-label="newest runs">
      {runs.map((run) => (
        <Link
          key={run.number}
          to={`/runs/${run.number}`}
          title={`run ${run.number} of ${exactTime(run.planned_at ?? run.created_at)}: ${run.state}`}
          aria-label={`run ${run.number}: ${run.state}`}
        >
          <State state={run.state} bare />
        </Link>
      ))}
    </Group>
  );
}
