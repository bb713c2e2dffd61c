import { IconBookmark } from "@tabler/icons-react";
import { lazy, Suspense } from "react";

import { Opening } from "../../components/Opening";
import type { RunFiltering } from "./filter";

const SavedChoice = lazy(() => import("./SavedChoice"));

/** The filters that anybody saved, and the one that is set, to be saved by name. */
export function SavedFilters({ filtering }: { filtering: RunFiltering }) {
  return (
    <Opening label="Saved filters" icon={<IconBookmark size={15} />} size="sm" width={340}>
      {(close) => (
        <Suspense>
          <SavedChoice filtering={filtering} onClose={close} />
        </Suspense>
      )}
    </Opening>
  );
}
