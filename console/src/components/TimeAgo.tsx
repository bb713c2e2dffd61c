import { Tooltip } from "@mantine/core";

import { spell, useNow } from "./durations";

/** How long ago something was; the exact time, in the viewer's zone, on hover. */
export function Ago({ at }: { at: string | null | undefined }) {
  const now = useNow();
  if (!at) return <span>–</span>;
  return (
    <Tooltip label={exactly(at)}>
      <time dateTime={at}>{spell(Math.max(0, (now - Date.parse(at)) / 1000))} ago</time>
    </Tooltip>
  );
}

/** A time to the second, in the viewer's zone. */
function exactly(at: string): string {
  return new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "long" });
}

/** How long it is until then. */
export function Until({ at }: { at: string }) {
  const now = useNow();
  const left = (new Date(at).getTime() - now) / 1000;
  return (
    <time dateTime={at} title={exactly(at)}>
      {left > 0 ? `in ${spell(left)}` : "now"}
    </time>
  );
}

const NOWRAP = { whiteSpace: "nowrap" } as const;

interface TookProps {
  from: string | null | undefined;
  /** Until now unless given. */
  to: string | null | undefined;
}

/** How long something took, or has taken until now. */
export function Took({ from, to }: TookProps) {
  return from ? (
    to ? (
      <span style={NOWRAP}>{between(from, to)}</span>
    ) : (
      <Taking from={from} />
    )
  ) : (
    <span>–</span>
  );
}

function Taking({ from }: { from: string }) {
  const now = useNow();
  return <span style={NOWRAP}>{spell(Math.max(0, (now - new Date(from).getTime()) / 1000))}</span>;
}

function between(from: string, to: string): string {
  return spell((new Date(to).getTime() - new Date(from).getTime()) / 1000);
}
