/** The filter of the list of runs, as it stands in the page's address. */

import { useSearchParams } from "react-router";

import { FILTERS, type RunFilter } from "../../queries/client";

export interface RunFiltering {
  filter: RunFilter;
  /** How many of its fields are set. */
  count: number;
  /** Sets one field, or with null clears it. */
  set: (name: keyof RunFilter, value: string | null) => void;
  clear: () => void;
}

/** Reads and writes the filter in the address, so that a view can be shared. */
export function useRunFilter(): RunFiltering {
  const [query, setQuery] = useSearchParams();
  const filter = Object.fromEntries(
    FILTERS.map((name) => [name, query.get(name) || null]),
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
  };
}

/** Spans of time that can be chosen, each with how many hours it goes back. */
export const SPANS = [
  { label: "last hour", hours: 1 },
  { label: "last 24 hours", hours: 24 },
  { label: "last 7 days", hours: 168 },
  { label: "last 30 days", hours: 720 },
];

/** So many hours before now, to the minute, as the service takes it. */
export function hoursAgo(hours: number): string {
  return new Date(Math.floor(Date.now() / 60_000 - hours * 60) * 60_000).toISOString();
}
