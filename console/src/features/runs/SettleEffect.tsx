import { Button, JsonInput, Popover, Stack } from "@mantine/core";
import { useState } from "react";

import type { Effect, Json } from "../../api/types";

interface Props {
  effect: Effect;
  onSettle: (effect: Effect, done: boolean, value?: Json) => void;
}

/** Say whether an effect was done, and what it gave where its step uses that. */
export function SettleEffect({ effect, onSettle }: Props) {
  const [asked, setAsked] = useState(false);
  const [text, setText] = useState("null");
  const decide = (done: boolean, value?: Json) => {
    setAsked(false);
    onSettle(effect, done, value);
  };
  return (
    <>
      {effect.state !== "done" && (
        <Popover opened={asked} onChange={setAsked} width={280} withArrow trapFocus>
          <Popover.Target>
            <Button
              size="compact-xs"
              variant="default"
              onClick={() => (effect.is_used ? setAsked(true) : decide(true))}
            >
              It was done
            </Button>
          </Popover.Target>
          <Popover.Dropdown>
            <Stack gap="xs">
              <JsonInput
                label="What it gave"
                description="The step uses it. JSON; null where it gave nothing."
                value={text}
                onChange={setText}
                error={parsed(text) === undefined ? "this is no JSON" : null}
                autosize
              />
              <Button
                size="compact-sm"
                disabled={parsed(text) === undefined}
                onClick={() => decide(true, parsed(text))}
              >
                Say so
              </Button>
            </Stack>
          </Popover.Dropdown>
        </Popover>
      )}
      {effect.state !== "not done" && (
        <Button size="compact-xs" variant="default" onClick={() => decide(false)}>
          It was not
        </Button>
      )}
    </>
  );
}

function parsed(text: string): Json | undefined {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return undefined;
  }
}
