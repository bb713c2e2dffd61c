import { ActionIcon, Tooltip } from "@mantine/core";
import { IconBell, IconBellFilled } from "@tabler/icons-react";
import { useEffect, useState } from "react";

import type { Run } from "../../api/types";

/** Asks the browser for a notice when the run has ended; where it has none, there is no button. */
export function EndNotice({ run }: { run: Run }) {
  const [asked, setAsked] = useState(false);
  const ended = run.ended_at !== null;
  useEffect(() => {
    if (asked && ended)
      new Notification(`Run ${run.number} is ${run.state}`, { body: run.workflow });
  }, [asked, ended, run.number, run.state, run.workflow]);
  if (ended || !("Notification" in window)) return null;
  const words = asked ? "You will be told when it ends" : "Tell me when it ends";
  return (
    <Tooltip label={words}>
      <ActionIcon
        variant="default"
        size={36}
        aria-label={words}
        aria-pressed={asked}
        onClick={() => {
          if (asked) setAsked(false);
          else void Notification.requestPermission().then((said) => setAsked(said === "granted"));
        }}
      >
        {asked ? <IconBellFilled size={18} /> : <IconBell size={18} />}
      </ActionIcon>
    </Tooltip>
  );
}
