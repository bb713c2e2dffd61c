import {
  useQueryClient,
  type InfiniteData,
  type QueryClient,
  type QueryFilters,
} from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { watch, watchLog, type LinkState } from "../api/liveEvents";
import { AGAIN, reduce, type Asked, type Effect, type LiveEvent, type Shown } from "./reducer";
import type { RunPage } from "./runs";
import { put } from "./updateCache";

/** Keep what all pages show as it is; says whether the stream stands. */
export function useLive(): LinkState {
  const client = useQueryClient();
  const [link, setLink] = useState<LinkState>("connecting");
  useEffect(
    () =>
      watch(null, {
        onLink: setLink,
        onChange: (change) => take(client, { kind: "changed", change }),
        onSnapshot: () => take(client, { kind: "gap" }),
      }),
    [client],
  );
  return link;
}

/** Keep what is shown of one run as it is, with its graph. */
export function useLiveRun(run: number): void {
  const client = useQueryClient();
  useEffect(
    () =>
      watch(run, {
        onLink: () => undefined,
        onChange: (change, of) => {
          if (of === run) take(client, { kind: "run changed", run, change });
        },
        onSnapshot: () => take(client, { kind: "gap of run", run }),
      }),
    [client, run],
  );
}

/** Add what an attempt prints to its log as it comes. */
export function useLiveLog(run: number, address: string, live: boolean): void {
  const client = useQueryClient();
  useEffect(() => {
    if (!live) return undefined;
    return watchLog(run, address, (line) => take(client, { kind: "line", run, address, line }));
  }, [client, run, address, live]);
}

function take(client: QueryClient, event: LiveEvent): void {
  apply(client, reduce(shownBy(client), event));
}

/** What a client shows at the moment. */
export function shownBy(client: QueryClient): Shown {
  return {
    get: (key) => client.getQueryData(key),
    lists: () => client.getQueriesData<InfiniteData<RunPage>>({ queryKey: ["runs"] }),
    openSteps: (run) =>
      new Set(
        client
          .getQueryCache()
          .findAll({ queryKey: ["step", run] })
          .map(({ queryKey }) => String(queryKey[2])),
      ),
  };
}

/** Do what follows from an event, or from an answer. */
export function apply(client: QueryClient, effects: Effect[]): void {
  for (const effect of effects) {
    if (effect.do === "show") put(client, effect.key, effect.value);
    else if (effect.do === "replace") client.setQueryData(effect.key, effect.value);
    else if (effect.do === "ask again") lookAgain(client, effect.what, filterOf(effect));
    else askNow(client, effect);
  }
}

function askNow(client: QueryClient, { keys, run, failed }: Effect & { do: "ask now" }): void {
  for (const queryKey of keys ?? []) void client.invalidateQueries({ queryKey });
  if (run !== undefined) {
    void client.invalidateQueries({
      predicate: ({ queryKey: [kind, number] }) => number === run && kind !== "past",
    });
  }
  if (failed) void client.refetchQueries({ predicate: ({ state }) => state.status === "error" });
}

/** Which queries are meant. */
function filterOf({ what, key, only }: Effect & { do: "ask again" }): QueryFilters {
  if (!only) return { queryKey: key ?? [what] };
  if ("logOf" in only) {
    const begin = `${only.logOf}#`;
    const predicate: QueryFilters["predicate"] = ({ queryKey }) =>
      String(queryKey[2]).startsWith(begin);
    return { queryKey: key, predicate };
  }
  return {
    predicate: ({ queryKey: [kind, number, address] }) =>
      number === only.itemsOf &&
      (kind === "items" || (kind === "graph" && address !== "") || isInItem(kind, address)),
  };
}

function isInItem(kind: unknown, address: unknown): boolean {
  return (kind === "step" || kind === "log") && String(address).includes("[");
}

const timers = new Map<string, number>();

/**
 * Ask something again, once for all changes of a while. What is still being asked is not given up,
 * or it would never be there while much changes; it is asked once more after it.
 */
function lookAgain(client: QueryClient, what: Asked, which: QueryFilters): void {
  // Two steps that change in one while are two questions: a timer for each.
  const name = `${what} ${JSON.stringify(which.queryKey ?? [])}`;
  if (timers.has(name)) return;
  const again = () => {
    timers.delete(name);
    if (client.isFetching(which)) lookAgain(client, what, which);
    else void client.invalidateQueries(which);
  };
  timers.set(name, window.setTimeout(again, AGAIN[what]));
}
