import { Button, Popover } from "@mantine/core";
import { IconHelpCircle } from "@tabler/icons-react";

import type { StepState } from "../api/types";
import { State } from "../components/State";
import classes from "./Weave.module.css";

const MEANINGS: [StepState, string][] = [
  ["waiting", "for earlier steps"],
  ["ready", "waits for a worker, a pool or its turn"],
  ["running", "an attempt runs"],
  ["backing_off", "failed; waits before the next try"],
  ["resting", "asked to be called again later"],
  ["paused", "stopped at a checkpoint, or held with its run"],
  ["done", ""],
  ["failed", ""],
  ["cancelled", ""],
  ["skipped", "passed over: a condition, or not reached"],
];

const KEYS: [string, string][] = [
  ["← →", "along the thread"],
  ["↑ ↓", "to the next strand"],
  ["Enter", "opens"],
  ["Esc", "closes"],
  ["n p", "next, previous failed step"],
  ["+ − 0", "nearer, farther, all of it"],
];

/** What the dyes, threads and keys of the graph mean. */
export function Legend() {
  return (
    <Popover position="bottom-end" width={330} withArrow trapFocus>
      <Popover.Target>
        <Button
          variant="default"
          size="compact-xs"
          className={classes.legendButton}
          leftSection={<IconHelpCircle size={14} />}
        >
          Legend
        </Button>
      </Popover.Target>
      <Popover.Dropdown>
        <dl className={classes.legend}>
          {MEANINGS.map(([state, words]) => (
            <div key={state}>
              <dt>
                <State state={state} />
              </dt>
              <dd>{words}</dd>
            </div>
          ))}
          <div>
            <dt>
              <span className={classes.sample} /> thread
            </dt>
            <dd>in the dye of what it comes from</dd>
          </div>
          <div>
            <dt>
              <span className={classes.sample} data-longest /> longest path
            </dt>
            <dd>what the time so far went into</dd>
          </div>
          <div>
            <dt>
              <span className={classes.sample} data-bottleneck /> bottleneck
            </dt>
            <dd>where most wait, and for what</dd>
          </div>
          <div>
            <dt>
              <span className={classes.sample} data-many /> box of many
            </dt>
            <dd>has the dye of the worst in it, a band of all, and the median of what they took</dd>
          </div>
          {KEYS.map(([key, words]) => (
            <div key={key}>
              <dt>
                <kbd>{key}</kbd>
              </dt>
              <dd>{words}</dd>
            </div>
          ))}
        </dl>
      </Popover.Dropdown>
    </Popover>
  );
}
