import { Text } from "@mantine/core";

import type { EachPart, Part, StepPart, Took } from "../../api/types";
import { spell } from "../../components/durations";
import classes from "./HowLong.module.css";

/** How long the attempts of each step in the items of an each took: a small histogram a step. */
export function HowLong({ each }: { each: EachPart }) {
  const steps = stepsIn(each.do).filter(({ took }) => took?.histogram.length);
  if (!steps.length) return null;
  return (
    <div className={classes.all} role="group" aria-label="how long steps took">
      {steps.map(
        ({ address, label, took }) => took && <One key={address} label={label} took={took} />,
      )}
    </div>
  );
}

function stepsIn(part: Part): StepPart[] {
  if (part.kind === "step") return [part];
  return part.kind === "each" ? stepsIn(part.do) : part.parts.flatMap(stepsIn);
}

function One({ label, took }: { label: string; took: Took }) {
  const most = Math.max(...took.histogram.map(({ number }) => number));
  return (
    <div className={classes.one}>
      <Text size="xs" truncate>
        <strong>{label}</strong> median {spell(took.median)}, longest {spell(took.longest)}
      </Text>
      <div className={classes.bars}>
        {took.histogram.map(({ from, to, number }) => (
          <i
            key={from}
            className={classes.bar}
            style={{ height: number ? `${Math.max(6, (100 * number) / most)}%` : 0 }}
            title={`${number.toLocaleString("en")} took ${spell(from)} to ${spell(to)}`}
          />
        ))}
      </div>
    </div>
  );
}
