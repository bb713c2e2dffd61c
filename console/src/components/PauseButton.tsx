import { Button, Text } from "@mantine/core";
import { IconPlayerPause, IconPlayerPlay } from "@tabler/icons-react";

import { Ago } from "./TimeAgo";

interface Props {
  paused: boolean;
  /** What changes it. */
  change: { isPending: boolean; mutate: (change: { paused: boolean }) => void };
}

/** Pauses something that looms declare, or lets it go on. */
export function PauseButton({ paused, change }: Props) {
  return (
    <Button
      variant="default"
      size="xs"
      leftSection={paused ? <IconPlayerPlay size={14} /> : <IconPlayerPause size={14} />}
      loading={change.isPending}
      onClick={() => change.mutate({ paused: !paused })}
    >
      {paused ? "Resume" : "Pause"}
    </Button>
  );
}

/** Who paused it, when and why. */
export function PausedNote({ pause }: { pause: { by: string; at: string; reason: string } }) {
  return (
    <Text size="xs" className="dyed" data-dye="paused">
      paused by {pause.by} <Ago at={pause.at} />
      {pause.reason && `: ${pause.reason}`}
    </Text>
  );
}
