import { useInfiniteQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { get, linesPath } from "../api/http";
import { watchRunLines } from "../api/liveEvents";
import type { Run, RunLine } from "../api/types";
import { apply, shownBy } from "./liveUpdates";
import { keys } from "./queryClient";
import { reduce } from "./reducer";

export interface LinePage {
  lines: RunLine[];
  next: string | null;
  /** Behind all that was looked through. */
  end: string;
}

const PAGE = 500;

/** The newest lines of a run, those of one address or with a text; the next page is before them. */
export function useRunLines(run: number, address: string, text: string) {
  return useInfiniteQuery({
    queryKey: keys.lines(run, address, text),
    initialPageParam: "",
    queryFn: ({ pageParam }) => {
      const query = new URLSearchParams({ address, text, limit: String(PAGE) });
      if (pageParam) query.set("before", pageParam);
      else query.set("newest", "true");
      return get<LinePage>(`/runs/${run}/lines?${query}`);
    },
    getNextPageParam: (page) => page.next ?? undefined,
    refetchOnMount: "always",
  });
}

/**
 * Add what a run's steps print as it comes, to the end; of very much the newest lines stay.
 *
 * @param end behind the lines that are there; null while none are.
 */
export function useLiveLines(run: Run, address: string, text: string, end: string | null): void {
  const client = useQueryClient();
  const { number } = run;
  const goesOn = useRef(true);
  const [live] = useState(run.ended_at === null);
  useEffect(() => {
    goesOn.current = run.ended_at === null;
  }, [run.ended_at]);
  useEffect(() => {
    if (end === null || !live) return undefined;
    const key = keys.lines(number, address, text);
    const path = (after: string) => linesPath(number, address, text, after);
    const take = (line: RunLine) =>
      apply(client, reduce(shownBy(client), { kind: "run line", key, line }));
    // The service ends the stream after the last line of a run that has ended.
    return watchRunLines(path, end, take, () => goesOn.current);
  }, [client, number, address, text, end, live]);
}
