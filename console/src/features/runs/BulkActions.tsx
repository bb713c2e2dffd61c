import { lazy, Suspense } from "react";

import { FormButton } from "../../components/FormButton";
import type { RunFilter } from "../../queries/queryClient";

const BulkForm = lazy(() => import("./BulkForm"));

/** The same command for every run of the filtered list; how many they are is asked first. */
export function BulkActions({ filter }: { filter: RunFilter }) {
  return (
    <FormButton label="Act on all of these" size="sm" width={340}>
      {(close) => (
        <Suspense>
          <BulkForm filter={filter} onClose={close} />
        </Suspense>
      )}
    </FormButton>
  );
}
