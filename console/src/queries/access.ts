import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { get, post, remove } from "../api/http";
import type { Caller, NewToken, Role, Token } from "../api/types";
import { forgetSession } from "../api/session";
import { keys } from "./queryClient";

/** Who is signed in here. */
export function useCaller() {
  return useQuery({ queryKey: keys.caller, queryFn: () => get<Caller>("/session") });
}

/** Sign this browser out; every page is asked for anew, and is the one to sign in. */
export function useSignOut() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: () => remove("/session"),
    onSettled: () => {
      forgetSession();
      return client.resetQueries();
    },
  });
}

/** Every token, those that ended lately too. */
export function useTokens() {
  return useQuery({
    queryKey: keys.tokens,
    queryFn: () => get<{ tokens: Token[] }>("/tokens"),
    refetchOnMount: "always",
    retry: false,
  });
}

/** Make a token; the answer is the only place where it is shown. */
export function useAddToken() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (token: { name: string; may: Role[]; workflows: string[]; seconds: number }) =>
      post<NewToken>("/tokens", token),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.tokens }),
  });
}

/** End a token, for a reason. */
export function useRevokeToken(name: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: (reason: string) =>
      remove(`/tokens/${encodeURIComponent(name)}?${new URLSearchParams({ reason })}`),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.tokens }),
  });
}
