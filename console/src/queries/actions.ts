import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, post } from "../api/http";
import type { Effect, Command, Json, PublishedEntry, Run, Step } from "../api/types";
import { keys, type RunFilter } from "./queryClient";
import { asBody } from "./savedFilters";

export type RunAction = "pause" | "resume" | "cancel" | "mend";
export type StepAction = "pause" | "resume" | "cancel" | "retry" | "edit" | "skip" | "supply";

/** Pause, resume, cancel or mend a run, with a reason. */
export function useAct(run: number, action: RunAction) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (reason: string) => post<Run>(`/runs/${run}/${action}`, { reason }),
    onSuccess: (data) => client.setQueryData(keys.run(run), data),
  });
}

/** Run only some failed steps again. */
export function useMendOnly(run: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (only: { task: string; type: string; pattern: string }) =>
      post<Run>(`/runs/${run}/mend`, { only }),
    onSuccess: (data) => client.setQueryData(keys.run(run), data),
  });
}

/** Start a run's workflow anew, with its params and what is changed of them. */
export function useRerun(run: number) {
  return useMutation({
    mutationFn: (params: { [key: string]: Json }) => post<Run>(`/runs/${run}/rerun`, { params }),
  });
}

/** Decide something about a step. */
export function useActOnStep(run: number, address: string, action: StepAction) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: { [key: string]: Json }) =>
      post<Step>(`/runs/${run}/steps/${action}?${new URLSearchParams({ address })}`, body),
    onSuccess: (data) => client.setQueryData(keys.step(run, address), data),
  });
}

export interface Bulk {
  action: RunAction;
  filter: RunFilter;
  reason: string;
  /** How many were shown; null only asks. */
  count: number | null;
}

export interface BulkAnswer {
  count: number;
  done: number[];
  refused: { run: number; why: string }[];
}

/** The same command for every run of a list. */
export function useBulk() {
  return useMutation({
    mutationFn: ({ filter, ...bulk }: Bulk) =>
      post<BulkAnswer>("/runs/actions", {
        ...bulk,
        ...asBody(filter),
        ...(filter.saved ? { saved: filter.saved } : {}),
      }),
  });
}

/** The side effects of a run. */
export function useLedger(run: number, enabled: boolean) {
  return useQuery({
    queryKey: keys.ledger(run),
    queryFn: () => get<{ effects: Effect[]; unsure: number }>(`/runs/${run}/ledger`),
    enabled,
  });
}

type Decision = {
  what: string;
  address: string;
  done: boolean;
  reason: string;
  /** What it gave; needed where it was done and its step uses that. */
  value?: Json;
};

/** Say whether something unsure was done. */
export function useSettle(run: number) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (body: Decision) => post<Json>(`/runs/${run}/ledger`, { ...body }),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.ledger(run) }),
  });
}

/** Who did what with a run. */
export function useCommands(run: number, enabled: boolean) {
  return useQuery({
    queryKey: keys.commands(run),
    queryFn: () => get<{ commands: Command[] }>(`/commands?run=${run}&limit=100`),
    enabled,
  });
}

/** What the steps of a run published. */
export function usePublished(run: number, enabled: boolean) {
  return useQuery({
    queryKey: keys.published(run),
    queryFn: () => get<{ published: PublishedEntry[] }>(`/runs/${run}/published`),
    enabled,
  });
}
