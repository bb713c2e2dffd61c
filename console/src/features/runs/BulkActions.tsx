import { lazy, Suspense } from "react";

import { Opening } from "../../components/Opening";
import type { RunFilter } from "../../queries/client";

const BulkForm = lazy(() => import("./BulkForm"));

/** The same command for every run of the filtered list; how many they are is asked first. */
export function BulkActions({ filter }: { filter: RunFilter }) {
  return (
    <Opening label="Act on all of these" size="sm" width={340}>
      {(close) => (
        <Suspense>
          <BulkForm filter={filter} onClose={close} />
        </Suspense>
      )}
    </Opening>
  );
}
