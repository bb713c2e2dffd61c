import { spell } from "../../components/durations";
import { marksOf } from "./attemptBars";
import classes from "./TimeAxis.module.css";

interface Props {
  /** How long the axis is. */
  seconds: number;
  /** How many seconds after zero it begins; default 0. */
  from?: number;
}

/** The times along an axis. */
export function TimeAxis({ seconds, from = 0 }: Props) {
  return marksOf(seconds).map((second) => (
    <span key={second} className={classes.mark} style={{ left: `${(100 * second) / seconds}%` }}>
      {second === 0 && from === 0 ? "0" : `+${spell(from + second)}`}
    </span>
  ));
}
