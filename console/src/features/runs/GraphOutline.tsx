import type { Part, StepPart } from "../../api/types";
import { StateBand } from "../../components/StateBand";
import { countsText } from "../../components/counts";
import { State } from "../../components/State";
import { Took } from "../../components/TimeAgo";
import { spell } from "../../components/durations";
import classes from "./GraphOutline.module.css";

interface Props {
  graph: Part;
  chosen: string | null;
  /** Called with a step's address when it is to be opened. */
  onStep: (address: string) => void;
  /** Called with an each's address when its items are to be listed. */
  onEach: (address: string) => void;
}

/** The graph as lines one below the other: for narrow windows, and for those who listen. */
export function GraphOutline(props: Props) {
  return (
    <div className={classes.outline} data-testid="outline">
      <ul role="tree" aria-label="parts of the run">
        <Inside {...props} part={props.graph} />
      </ul>
    </div>
  );
}

interface InsideProps extends Props {
  part: Part;
}

/** The lines of the parts in a part. */
function Inside({ part, ...props }: InsideProps) {
  if (part.kind === "step") return <Line {...props} part={part} />;
  const inner =
    part.kind === "each" ? (part.do.kind === "step" ? [part.do] : inside(part.do)) : part.parts;
  const follows = Object.entries(part.follow_ups ?? {}).filter(([, one]) => one.begun !== false);
  return (
    <>
      {inner.map((one) => (
        <Line {...props} part={one} key={one.address} />
      ))}
      {follows.map(([name, one]) => (
        <Line {...props} part={one} name={name.replace("_", " ")} key={name} />
      ))}
    </>
  );
}

function inside(part: Part): Part[] {
  return part.kind === "step" || part.kind === "each" ? [part] : part.parts;
}

const WORDS = {
  parallel: "side by side",
  each: "for each",
  choose: "one of these",
  fallback: "with a stand-in",
  sequence: "",
  step: "",
};

function Line({ part, name, ...props }: InsideProps & { name?: string }) {
  const opens = part.kind === "step" ? part.state !== undefined : part.kind === "each";
  const open = () => (part.kind === "each" ? props.onEach : props.onStep)(part.address);
  const words = (
    <>
      <span className={classes.label}>{name ?? part.label}</span>
      {WORDS[part.kind] && <span className={classes.faded}>{WORDS[part.kind]}</span>}
      {part.state && <State state={part.state} />}
      {part.counts && (part.kind === "each" || part.kind === "step") && (
        <span>{countsText(part.counts)}</span>
      )}
      {part.kind === "step" && <Times step={part} />}
    </>
  );
  return (
    <li
      role="treeitem"
      aria-selected={part.address === props.chosen}
      className={classes.item}
      data-faint={part.skip_reason === "not_chosen" || undefined}
    >
      {opens ? (
        <button type="button" className={classes.line} onClick={open}>
          {words}
        </button>
      ) : (
        <div className={classes.line}>{words}</div>
      )}
      {part.counts && (part.kind === "each" || (part.kind === "step" && !part.state)) && (
        <div className={classes.band}>
          <StateBand counts={part.counts} />
        </div>
      )}
      {part.error?.message && part.state === "failed" && (
        <div className={`${classes.error} dyed`} data-dye="failed">
          {part.error.type}: {part.error.message}
        </div>
      )}
      {part.kind !== "step" && (
        <ul role="group" className={classes.inner}>
          <Inside {...props} part={part} />
        </ul>
      )}
    </li>
  );
}

function Times({ step }: { step: StepPart }) {
  if (step.took) {
    const { median, longest } = step.took;
    return (
      <span className={classes.faded}>
        {spell(median)} each, {spell(longest)} at most
      </span>
    );
  }
  return step.started_at ? (
    <span className={classes.faded}>
      <Took from={step.started_at} to={step.ended_at} />
    </span>
  ) : null;
}
