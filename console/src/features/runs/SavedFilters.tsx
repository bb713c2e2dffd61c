import { IconBookmark } from "@tabler/icons-react";
import { lazy, Suspense } from "react";

import { FormButton } from "../../components/FormButton";
import type { RunFiltering } from "./runFilter";

const SavedFilterChoice = lazy(() => import("./SavedFilterChoice"));

/** The filters that anybody saved, and the one that is set, to be saved by name. */
export function SavedFilters({ filtering }: { filtering: RunFiltering }) {
  return (
    <FormButton label="Saved filters" icon={<IconBookmark size={15} />} size="sm" width={340}>
      {(close) => (
        <Suspense>
          <SavedFilterChoice filtering={filtering} onClose={close} />
        </Suspense>
      )}
    </FormButton>
  );
}
