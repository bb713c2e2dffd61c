import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, patch, post, remove } from "../api/http";
import type { Json, Pool, PoolUse, Why, Worker } from "../api/types";
import { apply, shownBy } from "./liveUpdates";
import { keys } from "./queryClient";
import { withPool } from "./reducer";

/** Every pool, by name; events keep them as they are. */
export function usePools() {
  return useQuery({
    queryKey: keys.pools,
    queryFn: () => get<{ pools: Pool[] }>("/pools"),
    refetchOnMount: "always",
  });
}

/** How full a pool was within the last hour, and who waits for it. */
export function usePoolUse(name: string) {
  return useQuery({
    queryKey: keys.poolUse(name),
    queryFn: () => get<PoolUse>(`/pools/${encodeURIComponent(name)}/use`),
    refetchOnMount: "always",
  });
}

/** The workers that are thought to live. */
export function useWorkers() {
  return useQuery({
    queryKey: keys.workers,
    queryFn: () => get<{ workers: Worker[] }>("/workers"),
    refetchOnMount: "always",
  });
}

/** What a run, or a part of it, waits for. */
export function useWhy(run: number, address: string, wanted = true) {
  const query = new URLSearchParams(address ? { address } : {});
  return useQuery({
    queryKey: keys.why(run, address),
    queryFn: () => get<Why>(`/runs/${run}/why?${query}`),
    enabled: wanted,
    refetchOnMount: "always",
  });
}

/** Make a pool, or with a name change that one. */
export function useChangePool(name: string | null) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (change: { [key: string]: Json }) =>
      name === null
        ? post<Pool>("/pools", change)
        : patch<Pool>(`/pools/${encodeURIComponent(name)}`, change),
    onSuccess: (pool) => apply(client, withPool(shownBy(client), pool)),
  });
}

export function useRemovePool(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => remove(`/pools/${encodeURIComponent(name)}`),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.pools }),
  });
}

export function useDrain(worker: string) {
  return useMutation({
    mutationFn: (reason: string) =>
      post<Worker>(`/workers/${encodeURIComponent(worker)}/drain`, { reason }),
  });
}
