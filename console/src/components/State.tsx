import {
  IconBan,
  IconCalendarTime,
  IconCheck,
  IconCircleDashed,
  IconCircleHalf2,
  IconClockPause,
  IconHourglass,
  IconMoon,
  IconPlayerPause,
  IconPlayerPlay,
  IconPlayerTrackNext,
  IconRotateClockwise,
  IconX,
  type Icon,
} from "@tabler/icons-react";

import type { State as StateName } from "../api/types";
import classes from "./State.module.css";

const ICONS: Record<StateName, Icon> = {
  waiting: IconCircleDashed,
  scheduled: IconCalendarTime,
  ready: IconHourglass,
  queued: IconHourglass,
  running: IconPlayerPlay,
  backing_off: IconRotateClockwise,
  resting: IconMoon,
  pausing: IconClockPause,
  paused: IconPlayerPause,
  cancelling: IconCircleHalf2,
  done: IconCheck,
  failed: IconX,
  cancelled: IconBan,
  skipped: IconPlayerTrackNext,
};

interface Props {
  state: StateName;
  /** Why a running step is told to stop. */
  stopAsked?: string | null;
  /** Only the icon, with the word for screen readers; default false. */
  bare?: boolean;
}

/** A state: icon and word, in its dye. */
export function State({ state, stopAsked, bare = false }: Props) {
  const Drawing = ICONS[state];
  const word = state.replace("_", " ");
  return (
    <span className={classes.state} data-dye={state} data-state={state}>
      <Drawing
        size={15}
        stroke={2.2}
        aria-hidden={!bare}
        aria-label={bare ? word : undefined}
        className={state === "running" ? classes.moving : undefined}
      />
      {!bare && word}
      {stopAsked && state === "running" && ` · ${stopAsked} asked`}
    </span>
  );
}
