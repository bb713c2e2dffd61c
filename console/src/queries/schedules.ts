import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, patch, post, remove } from "../api/http";
import type { Json, Run, Schedule } from "../api/types";
import { apply, shownBy } from "./liveUpdates";
import { keys } from "./queryClient";
import { withSchedule } from "./reducer";

/** Every schedule, by name; events keep them as they are. */
export function useSchedules() {
  return useQuery({
    queryKey: keys.schedules,
    queryFn: () => get<{ schedules: Schedule[] }>("/schedules"),
    refetchOnMount: "always",
  });
}

/** When a schedule comes: by cron, or by an interval. */
export interface Times {
  cron: string;
  every: string;
  first: string;
  zone: string;
}

export function useNextTimes(times: Times) {
  const given = Object.entries(times).filter(([, value]) => value);
  const query = new URLSearchParams(given as [string, string][]).toString();
  return useQuery({
    queryKey: keys.nextTimes(query),
    queryFn: () => get<{ times: string[]; remarks: string[] }>(`/next-times?${query}`),
    enabled: times.cron !== "" || times.every !== "",
    staleTime: 0,
    retry: false,
  });
}

/** Make a schedule, or with a name change that one. */
export function useChangeSchedule(name: string | null) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (change: { [key: string]: Json }) =>
      name === null
        ? post<Schedule>("/schedules", change)
        : patch<Schedule>(`/schedules/${encodeURIComponent(name)}`, change),
    onSuccess: (schedule) => apply(client, withSchedule(shownBy(client), schedule)),
  });
}

export function useRemoveSchedule(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => remove(`/schedules/${encodeURIComponent(name)}`),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.schedules }),
  });
}

/** Start what a schedule starts, now; the key makes a double click one run. */
export function useStartSchedule(name: string) {
  return useMutation({
    mutationFn: (key: string) => post<Run>(`/schedules/${encodeURIComponent(name)}/start`, { key }),
  });
}
