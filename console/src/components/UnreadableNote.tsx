import { Text } from "@mantine/core";
import { useSyncExternalStore } from "react";

import { subscribe, unreadable } from "../api/unreadableRecords";

/** Says which records the service could not show; the lists have all others. */
export function UnreadableNote() {
  const found = useSyncExternalStore(subscribe, unreadable);
  if (found.length === 0) return null;
  return (
    <Text size="sm" role="status" className="dyed" data-dye="failed" fw={600} mb="sm">
      {found.length === 1 ? "One record" : `${found.length} records`} cannot be shown: {found[0]}
    </Text>
  );
}
