import type { ReactNode } from "react";

import type { LogLine } from "../../api/types";
import type { piecesOf } from "./ansi";
import classes from "./StepDrawer.module.css";

interface Props {
  line: LogLine;
  pieces: ReturnType<typeof piecesOf>;
  /** Where it was printed, if that is not plain. */
  place?: ReactNode;
}

/** A printed line: its time, place, stream and text, in its colours. */
export function Line({ line, pieces, place }: Props) {
  const mark = line.level ?? line.stream;
  return (
    <div className={classes.line} data-mark={mark} data-placed={place ? true : undefined}>
      <time dateTime={line.at} title={line.at}>
        {timeOf(line.at)}
      </time>
      {place}
      <span className={classes.mark}>{mark}</span>
      <span>
        {pieces.map(({ text, dye, strong, faint }, index) => (
          <span
            key={index}
            className={dye ? "dyed" : undefined}
            data-dye={dye || undefined}
            data-strong={strong || undefined}
            data-faint={faint || undefined}
          >
            {text}
          </span>
        ))}
      </span>
    </div>
  );
}

/** The time of the day in the viewer's zone, to the millisecond. */
function timeOf(at: string): string {
  const time = new Date(at);
  const parts = [time.getHours(), time.getMinutes(), time.getSeconds()];
  const clock = parts.map((one) => String(one).padStart(2, "0")).join(":");
  return `${clock}.${String(time.getMilliseconds()).padStart(3, "0")}`;
}
