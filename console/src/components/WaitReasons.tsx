import { Anchor, Group, List, Text } from "@mantine/core";

import type { Why } from "../api/types";
import { State } from "./State";

interface Props {
  why: Why;
  /** Opens a step; without it addresses are plain. */
  onStep?: (address: string) => void;
}

/** What a run waits for: for all of it, then step by step. */
export function WaitReasons({ why, onStep }: Props) {
  return (
    <div data-testid="why">
      {why.reasons.map((reason) => (
        <Text size="sm" key={reason.text}>
          {reason.text}
        </Text>
      ))}
      <List size="sm" listStyleType="none" spacing={6} mt={why.reasons.length ? 6 : 0}>
        {why.waits.map((entry) => (
          <List.Item key={entry.address}>
            <Group gap={8} align="baseline">
              <State state={entry.state} />
              {onStep ? (
                <Anchor component="button" size="sm" onClick={() => onStep(entry.address)}>
                  {decodeURIComponent(entry.address)}
                </Anchor>
              ) : (
                decodeURIComponent(entry.address)
              )}
            </Group>
            <Text size="sm" c="dimmed">
              {entry.reasons.map((reason) => reason.text).join("; ")}
            </Text>
          </List.Item>
        ))}
      </List>
      {why.more && (
        <Text size="sm" c="dimmed" mt={6}>
          There are more.
        </Text>
      )}
    </div>
  );
}
