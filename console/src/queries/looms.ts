import { useQuery } from "@tanstack/react-query";

import { get } from "../api/http";
import type { Service, Workflow } from "../api/types";
import { keys } from "./client";

export function useWorkflows() {
  return useQuery({
    queryKey: keys.workflows,
    queryFn: () => get<{ workflows: Workflow[] }>("/workflows"),
    // Publishing sends no event yet; a page that is opened asks anew.
    refetchOnMount: "always",
  });
}

export function useService() {
  return useQuery({ queryKey: keys.service, queryFn: () => get<Service>("/service") });
}
