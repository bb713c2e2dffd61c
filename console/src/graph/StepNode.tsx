import { Handle, Position, type Node, type NodeProps } from "@xyflow/react";

import type { StepPart } from "../api/types";
import { State } from "../components/State";
import { progressWords } from "../components/StepProgress";
import { Took, Until } from "../components/Time";
import classes from "./Weave.module.css";

const SLEEPS = ["backing_off", "resting"];

export type StepNodeType = Node<{ step: StepPart; chosen: boolean; longest: boolean }, "step">;

/** One step: label, task, state, time and attempts; in a folded each only what it is. */
export function StepNode({ data: { step, chosen, longest } }: NodeProps<StepNodeType>) {
  return (
    <div
      className={classes.step}
      data-dye={step.state}
      data-folded={!step.state || undefined}
      data-chosen={chosen || undefined}
      data-longest={longest || undefined}
    >
      <Handle type="target" position={Position.Left} className={classes.handle} />
      <div className={classes.label} title={step.label}>
        {step.label}
      </div>
      <div className={classes.task}>
        {step.task.split("/")[1]}
        {step.rules?.pool && ` · ${String(step.rules.pool)}`}
      </div>
      {step.progress?.total && step.state !== "done" ? (
        <div
          className={classes.progress}
          title={progressWords(step.progress, step.state ?? "waiting")}
        >
          <span style={{ width: `${(100 * (step.progress.done ?? 0)) / step.progress.total}%` }} />
        </div>
      ) : null}
      <div className={classes.foot}>
        {step.state && <State state={step.state} stopAsked={step.stop_asked} />}
        <span className={classes.facts}>
          {step.skip_reason && <span>{step.skip_reason.replace("_", " ")}</span>}
          {step.only_if && !step.state && <span>has a condition</span>}
          {(step.attempts ?? 0) > 1 && (
            <span title={`${step.attempts} attempts`}>#{step.attempts}</span>
          )}
          {SLEEPS.includes(step.state ?? "") && step.due_at ? (
            <Until at={step.due_at} />
          ) : (
            step.started_at && <Took from={step.started_at} to={step.ended_at} />
          )}
        </span>
      </div>
      <Handle type="source" position={Position.Right} className={classes.handle} />
    </div>
  );
}
