import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";

import { get, post } from "../api/http";
import type {
  AttemptTimes,
  Check,
  Failures,
  Glance,
  Item,
  Json,
  LogLine,
  Outliers,
  Overview,
  Part,
  PastProgress,
  Run,
  RunState,
  Step,
  Times,
} from "../api/types";
import { asAsked, keys, type RunFilter } from "./queryClient";

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
      const query = new URLSearchParams({ limit: "50", ...asAsked(filter) });
      if (pageParam) query.set("cursor", pageParam);
      return get<RunPage>(`/runs?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
    // A page that shows it begins with what is so now; from then on events keep it.
    refetchOnMount: "always",
  });
}

/** How many runs are in each state. */
export function useCounts() {
  return useQuery({
    queryKey: keys.counts,
    queryFn: () => get<{ counts: Record<RunState, number>; more: RunState[] }>("/runs/counts"),
    refetchOnMount: "always",
  });
}

/** The last hour, and what does not go on by itself. */
export function useOverview() {
  return useQuery({
    queryKey: keys.overview,
    queryFn: () => get<Overview>("/overview"),
    refetchOnMount: "always",
  });
}

export function useRun(run: number) {
  return useQuery({ queryKey: keys.run(run), queryFn: () => get<Run>(`/runs/${run}`) });
}

/** A run on one line. */
export function useGlance(run: number) {
  return useQuery({
    queryKey: keys.glance(run),
    queryFn: () => get<Glance>(`/runs/${run}/glance`),
    refetchOnMount: "always",
  });
}

/** Where the time of a run went, by the parts of its plan. */
export function useTimes(run: number) {
  return useQuery({
    queryKey: keys.times(run),
    queryFn: () => get<Times>(`/runs/${run}/times`),
    refetchOnMount: "always",
  });
}

/** The slowest attempts of a row, and the first that failed. */
export function useOutliers(run: number, address: string) {
  return useQuery({
    queryKey: keys.outliers(run, address),
    queryFn: () => get<Outliers>(`/runs/${run}/outliers?${new URLSearchParams({ address })}`),
    refetchOnMount: "always",
  });
}

/** What failed in a run, by kind. */
export function useFailures(run: number, wanted: boolean) {
  return useQuery({
    queryKey: keys.failures(run),
    queryFn: () => get<Failures>(`/runs/${run}/failures`),
    enabled: wanted,
  });
}

/** The parts of a run, or with an address of one item of an each. */
export function useGraph(run: number, address: string) {
  const query = new URLSearchParams(address ? { address } : {});
  return useQuery({
    queryKey: keys.graph(run, address),
    queryFn: () => get<Part>(`/runs/${run}/graph?${query}`),
  });
}

/** The parts of a run, or of an item, as they were at a time. */
export function usePast(run: number, address: string, at: string | null) {
  const query = new URLSearchParams({ at: at ?? "", ...(address ? { address } : {}) });
  return useQuery({
    queryKey: keys.past(run, address, at ?? ""),
    queryFn: () => get<Part & { progress?: PastProgress }>(`/runs/${run}/graph?${query}`),
    enabled: at !== null,
    // What was shown stays until the next moment is there, so that nothing flickers.
    placeholderData: (before) => (at === null ? undefined : before),
    gcTime: 30_000,
  });
}

export interface AttemptPage {
  attempts: AttemptTimes[];
  next: string | null;
}

/** The attempts of a run, or of the steps of one item, with their times, page by page. */
export function useAttempts(run: number, item: string) {
  return useInfiniteQuery({
    queryKey: keys.attempts(run, item),
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ limit: "1000", ...(item ? { address: item } : {}) });
      if (pageParam) query.set("cursor", pageParam);
      return get<AttemptPage>(`/runs/${run}/attempts?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
    refetchOnMount: "always",
  });
}

export interface ItemPage {
  items: Item[];
  next: string | null;
}

/** The items of an each, page by page; with a state or a text only those. */
export function useItems(run: number, each: string, state: string | null, text: string) {
  return useInfiniteQuery({
    queryKey: keys.items(run, each, state, text),
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ address: each, limit: "50" });
      if (state) query.set("state", state);
      if (text) query.set("text", text);
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
  target: string;
  params: Json;
  key: string;
  /** RFC 3339; null is now. */
  at: string | null;
  start_by: string | null;
}

/** Start a run; while rows of files are checked before, `onCheck` is told how far that is. */
export function useStart(onCheck: (checking: Check[]) => void) {
  return useMutation({
    mutationFn: async (start: Start) => {
      for (;;) {
        const answer = await post<Run | { checking: Check[] }>("/runs?wait=0.5", {
          ...start,
        });
        if (!("checking" in answer)) return answer;
        onCheck(answer.checking);
      }
    },
  });
}
