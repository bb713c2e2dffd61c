import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";

import { get, post } from "../api/http";
import type { Checking, Item, Json, LogLine, Part, Run, Step } from "../api/types";
import { keys, type RunFilter } from "./client";

export interface RunPage {
  runs: Run[];
  next: string | null;
}

/** Runs, newest first, page by page. */
export function useRuns(filter: RunFilter) {
  return useInfiniteQuery({
    queryKey: keys.runs(filter),
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ limit: "50" });
      if (filter.state) query.set("state", filter.state);
      if (filter.workflow) query.set("workflow", filter.workflow);
      if (filter.schedule) query.set("schedule", filter.schedule);
      if (pageParam) query.set("cursor", pageParam);
      return get<RunPage>(`/runs?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
  });
}

export function useRun(run: number) {
  return useQuery({ queryKey: keys.run(run), queryFn: () => get<Run>(`/runs/${run}`) });
}

/** The parts of a run, or with an address of one item of an each. */
export function useGraph(run: number, address: string) {
  const query = new URLSearchParams(address ? { address } : {});
  return useQuery({
    queryKey: keys.graph(run, address),
    queryFn: () => get<Part>(`/runs/${run}/graph?${query}`),
  });
}

export interface ItemPage {
  items: Item[];
  next: string | null;
}

/** The items of an each, page by page; with a state only those. */
export function useItems(run: number, each: string, state: string | null) {
  return useInfiniteQuery({
    queryKey: keys.items(run, each, state),
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ address: each, limit: "50" });
      if (state) query.set("state", state);
      if (pageParam) query.set("cursor", pageParam);
      return get<ItemPage>(`/runs/${run}/items?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
  });
}

/** One step with its values and attempts. */
export function useStep(run: number, address: string) {
  const query = new URLSearchParams({ address });
  return useQuery({
    queryKey: keys.step(run, address),
    queryFn: () => get<Step>(`/runs/${run}/steps?${query}`),
  });
}

/** What an attempt printed; `address` is that of the attempt, `fetch#2`. */
export function useLog(run: number, address: string) {
  const query = new URLSearchParams({ address });
  return useQuery({
    queryKey: keys.log(run, address),
    queryFn: () => get<{ lines: LogLine[] }>(`/runs/${run}/log?${query}`),
  });
}

export interface Start {
  workflow: string;
  params: Json;
  key: string;
  /** RFC 3339; null is now. */
  start_at: string | null;
  start_by: string | null;
}

/** Start a run; while rows of files are checked before, `onCheck` is told how far that is. */
export function useStart(onCheck: (checking: Checking[]) => void) {
  return useMutation({
    mutationFn: async (start: Start) => {
      for (;;) {
        const answer = await post<Run | { checking: Checking[] }>("/runs?wait=0.5", {
          ...start,
        });
        if (!("checking" in answer)) return answer;
        onCheck(answer.checking);
      }
    },
  });
}
