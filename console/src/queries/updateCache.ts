import type { QueryClient, QueryKey } from "@tanstack/react-query";

/** Milliseconds between two looks whether what was being asked has been answered. */
const PAUSE = 100;

const waiting = new Map<QueryClient, Set<string>>();

/**
 * Show what an event says. An answer that is still on its way may be older, and would stay when no
 * other event comes: after it the same is asked once more.
 */
export function put<T>(client: QueryClient, key: QueryKey, value: T): void {
  client.setQueryData<T>(key, value);
  if (isAsked(client, key)) askOnceMore(client, key);
}

function isAsked(client: QueryClient, queryKey: QueryKey): boolean {
  return client.isFetching({ queryKey, exact: true }) > 0;
}

function askOnceMore(client: QueryClient, queryKey: QueryKey): void {
  const known = waiting.get(client) ?? new Set<string>();
  waiting.set(client, known);
  const name = JSON.stringify(queryKey);
  if (known.has(name)) return;
  known.add(name);
  const look = () => {
    if (isAsked(client, queryKey)) {
      setTimeout(look, PAUSE);
      return;
    }
    known.delete(name);
    void client.invalidateQueries({ queryKey, exact: true });
  };
  setTimeout(look, PAUSE);
}
