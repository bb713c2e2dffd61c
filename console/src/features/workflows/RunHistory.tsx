import { Text } from "@mantine/core";
import { Link } from "react-router";

import type { Run } from "../../api/types";
import { spell, useNow } from "../../components/durations";
import classes from "./WorkflowPage.module.css";

/** Runs as bars, oldest first: as high as each took, in the dye of how it ended. */
export function RunHistory({ runs }: { runs: Run[] }) {
  const now = useNow();
  const begun = runs.filter((run) => run.started_at).reverse();
  const seconds = (run: Run) => {
    const end = run.ended_at ? Date.parse(run.ended_at) : now;
    return Math.max(0, end - Date.parse(run.started_at ?? "")) / 1000;
  };
  const longest = Math.max(...begun.map(seconds), 0.001);
  const done = runs.filter(({ state }) => state === "done").length;
  return (
    <div>
      <div className={classes.history} role="group" aria-label="how long the newest runs took">
        {begun.map((run) => (
          <Link
            key={run.number}
            to={`/runs/${run.number}`}
            className={classes.bar}
            data-dye={run.state}
            style={{ height: `${Math.max(6, (100 * seconds(run)) / longest)}%` }}
            title={`run ${run.number}: ${run.state}, ${spell(seconds(run))}`}
            aria-label={`run ${run.number}: ${run.state}, ${spell(seconds(run))}`}
          />
        ))}
      </div>
      <Text size="xs" c="dimmed">
        the newest {runs.length}: {done} done; the longest took {spell(longest)}
      </Text>
    </div>
  );
}
