/** The filter of the list of runs, as it stands in the page's address. */

import { useSearchParams } from "react-router";

import { RUN_FILTERS, type RunFilter } from "../../queries/queryClient";

export interface RunFiltering {
  filter: RunFilter;
  /** How many of its fields are set. */
  count: number;
  /** Sets one field, or with null clears it. */
  set: (name: keyof RunFilter, value: string | null) => void;
  clear: () => void;
  /** Shows what a saved filter says, and nothing beside it. */
  open: (name: string) => void;
}

/** Reads and writes the filter in the address, so that a view can be shared. */
export function useRunFilter(): RunFiltering {
  const [query, setQuery] = useSearchParams();
  const filter = Object.fromEntries(
    RUN_FILTERS.map(({ name }) => [name, query.get(name) || null]),
  ) as RunFilter;
  const set = (name: keyof RunFilter, value: string | null) =>
    setQuery(
      (before) => {
        if (value) before.set(name, value);
        else before.delete(name);
        return before;
      },
      { replace: name === "text" },
    );
  return {
    filter,
    count: Object.values(filter).filter(Boolean).length,
    set,
    clear: () => setQuery({}),
    open: (saved) => setQuery({ saved }),
  };
}

/** Spans of time that can be chosen, as the service takes them: counted from now. */
export const SPANS = [
  { label: "last hour", value: "1h" },
  { label: "last 24 hours", value: "24h" },
  { label: "last 7 days", value: "7d" },
  { label: "last 30 days", value: "30d" },
];
