import type { Node, NodeProps } from "@xyflow/react";

import type { EachPart, Item, Part } from "../api/types";
import { referenceText } from "./references";
import { StateBand } from "../components/StateBand";
import { countsText } from "../components/counts";
import { State } from "../components/State";
import type { PlacedFrame } from "./layout";
import classes from "./Weave.module.css";

export type FrameNodeType = Node<
  {
    kind: PlacedFrame["kind"];
    part: Part;
    caption: string;
    chosen: boolean;
    /** Whether it is on the longest path. */
    longest: boolean;
    /** Called with the address of an item whose parts are to be shown. */
    onItem: (address: string) => void;
  },
  "frame"
>;

/** A frame around parts: an each as one bundle, a follow-up, or the caption of a parallel. */
export function FrameNode({ data }: NodeProps<FrameNodeType>) {
  const { kind, part, caption, chosen, longest, onItem } = data;
  if (kind === "caption") {
    return (
      <div className={classes.caption}>
        {caption}
        {part.kind === "choose" && <span className={classes.by}>by {referenceText(part.by)}</span>}
      </div>
    );
  }
  return (
    <div
      className={classes.frame}
      data-kind={kind}
      data-chosen={chosen || undefined}
      data-longest={longest || undefined}
      data-faint={part.skip_reason === "not_chosen" || undefined}
    >
      <div className={classes.head}>
        <span className={classes.label}>{caption}</span>
        {part.state && part.begun !== false && <State state={part.state} />}
        {part.kind === "each" && <EachFacts each={part} />}
      </div>
      {part.kind === "each" && part.counts && <StateBand counts={part.counts} />}
      {part.kind === "each" && part.top && <Top items={part.top} onItem={onItem} />}
    </div>
  );
}

/** The items to look at first: failed ones, and those that run the longest. */
function Top({ items, onItem }: { items: Item[]; onItem: (address: string) => void }) {
  return (
    <div className={classes.top}>
      {items.map((item) => (
        <button
          key={item.item}
          type="button"
          className={`${classes.item} nodrag nopan`}
          onClick={(event) => {
            event.stopPropagation();
            onItem(item.address);
          }}
        >
          <State state={item.state} bare /> {item.name}
        </button>
      ))}
    </div>
  );
}

function EachFacts({ each }: { each: EachPart }) {
  if (each.alike && !each.counts) return <span>{each.alike.length} alike</span>;
  if (each.counts?.total) return <span>{countsText(each.counts)}</span>;
  const facts = [
    each.at_once && `${each.at_once} at once`,
    each.may_fail && `${each.may_fail} may fail`,
  ];
  return <span>{["each", ...facts.filter(Boolean)].join(" · ")}</span>;
}
