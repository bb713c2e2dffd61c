import { Text } from "@mantine/core";

import type { LinkState } from "../api/liveEvents";

/** Says that what is shown may be old, as long as the live stream is broken. */
export function LinkNote({ link }: { link: LinkState }) {
  return link === "broken" ? (
    <Text size="sm" role="status" className="dyed" data-dye="backing_off" fw={600} mb="sm">
      The connection to the service is broken; connecting again. What you see may be old.
    </Text>
  ) : null;
}
