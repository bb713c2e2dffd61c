import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, put, remove } from "../api/http";
import type { Json, JsonObject, SavedFilter } from "../api/types";
import { asAsked, FLAGS, keys, type RunFilter } from "./queryClient";

/** The filters that anybody saved, by name. */
export function useSavedFilters() {
  return useQuery({
    queryKey: keys.filters,
    queryFn: () => get<{ filters: SavedFilter[] }>("/filters"),
    refetchOnMount: "always",
  });
}

/** Save a filter by name, with what the saved one that it began with says. */
export function useSaveFilter() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: ({ name, filter, base }: Saving) =>
      put<SavedFilter>(`/filters/${encodeURIComponent(name)}`, {
        ...(base?.wanted ?? {}),
        ...asBody(filter),
      }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.filters }),
  });
}

/** Drop a saved filter. */
export function useDropFilter() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => remove(`/filters/${encodeURIComponent(name)}`),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.filters }),
  });
}

interface Saving {
  name: string;
  filter: RunFilter;
  base: SavedFilter | null;
}

/** A filter as a body says it. */
export function asBody(filter: RunFilter): { [key: string]: Json } {
  const { state, ...asked } = asAsked({ ...filter, saved: null });
  const fields = Object.entries(asked).map(([name, value]) => [
    name,
    FLAGS.includes(name) || value,
  ]);
  return { ...(Object.fromEntries(fields) as JsonObject), ...(state ? { states: [state] } : {}) };
}
