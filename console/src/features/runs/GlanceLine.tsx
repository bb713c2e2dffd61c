import { Progress } from "@mantine/core";
import { Link } from "react-router";

import type { Glance, Run } from "../../api/types";
import { barOf, Left } from "../../components/RunProgress";
import { useGlance } from "../../queries/runs";
import classes from "./GlanceLine.module.css";

const HELD = ["pausing", "paused"];

interface Props {
  run: Run;
  /** Called with the address of what a piece is about. */
  onPlace: (address: string) => void;
}

/** A run on one line: progress, running steps, failures, bottleneck, time left; and its bar. */
export function GlanceLine({ run, onPlace }: Props) {
  const glance = useGlance(run.number);
  const { fraction, seconds_left: left } = run.progress;
  const dye = HELD.includes(run.state) ? "paused" : (run.outcome ?? "running");
  return (
    <div data-testid="run-progress">
      <div className={classes.line} role="group" aria-label="at a glance">
        {glance.data?.pieces.map((piece) =>
          piece.what === "left" && left !== null ? (
            <Left key="left" seconds={left} told={run.progress} />
          ) : (
            <Piece
              key={`${piece.what} ${piece.address}`}
              piece={piece}
              hold={glance.data.held}
              onPlace={onPlace}
            />
          ),
        )}
      </div>
      <Progress mt={2} {...barOf(fraction, dye)} size={8} aria-label="how far the run is" />
    </div>
  );
}

function Piece({
  piece: { what, text, address },
  hold,
  onPlace,
}: {
  piece: Glance["pieces"][number];
  hold: Glance["held"];
  onPlace: (address: string) => void;
}) {
  if (what === "progress") return <strong>{text}</strong>;
  if (what === "held" && hold?.reason.pool) {
    return (
      <Link className={classes.piece} data-what={what} to={`/pools?pool=${hold.reason.pool}`}>
        {text}
      </Link>
    );
  }
  if (!address) {
    return (
      <span className={classes.piece} data-what={what}>
        {text}
      </span>
    );
  }
  return (
    <button
      type="button"
      className={classes.piece}
      data-what={what}
      title={text}
      onClick={() => onPlace(address)}
    >
      {text}
    </button>
  );
}
