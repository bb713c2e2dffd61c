import { useQuery } from "@tanstack/react-query";

import { get } from "../api/http";
import type { OverTime, Part, Service, TaskWithCode, Workflow } from "../api/types";
import { keys } from "./queryClient";

export function useWorkflows() {
  return useQuery({
    queryKey: keys.workflows,
    queryFn: () => get<{ workflows: Workflow[] }>("/workflows"),
    // Publishing sends no event yet; a page that is opened asks anew.
    refetchOnMount: "always",
  });
}

/** One workflow with its plan. */
export function useWorkflow(name: string) {
  return useQuery({
    queryKey: keys.workflow(name),
    queryFn: () => get<Workflow & { plan: Part }>(`/workflows?${new URLSearchParams({ name })}`),
    refetchOnMount: "always",
  });
}

/** How a workflow went over the last days. */
export function useOverTime(name: string) {
  return useQuery({
    queryKey: keys.overTime(name),
    queryFn: () => get<OverTime>(`/workflows/over-time?${new URLSearchParams({ name })}`),
    refetchOnMount: "always",
  });
}

/** A version of a task's code. */
export function useCode(task: string, hash: string, wanted: boolean) {
  return useQuery({
    queryKey: keys.code(task, hash),
    queryFn: () => get<TaskWithCode>(`/tasks?${new URLSearchParams({ name: task, code: hash })}`),
    enabled: wanted,
  });
}

export function useService() {
  return useQuery({ queryKey: keys.service, queryFn: () => get<Service>("/service") });
}
