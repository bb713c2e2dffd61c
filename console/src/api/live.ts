/**
 * The live events. One stream for each page that is open and visible: a hidden tab closes its own,
 * since browsers allow few connections to one host, and gets a snapshot when it is seen again.
 */

import { eventsPath, logPath, parseExact } from "./http";
import type { LogLine, Part, Pool, Run, Schedule, Worker } from "./types";

export interface Change {
  run?: Run;
  graph?: Part;
  pool?: Pool;
  schedule?: Schedule;
  workers?: Worker[];
}

export type LinkState = "connecting" | "live" | "broken";

export interface Listener {
  /** Something changed. */
  onChange: (change: Change) => void;
  /** Changes may have been missed: what is shown must be looked at again. */
  onSnapshot: (state: Change | null) => void;
  /** Whether the stream stands. */
  onLink: (state: LinkState) => void;
}

/** Watch one run, or all; the answer ends it. */
export function watch(run: number | null, listener: Listener): () => void {
  let source: EventSource | null = null;

  const open = () => {
    if (source || document.hidden) return;
    listener.onLink("connecting");
    source = new EventSource(eventsPath(run));
    source.onopen = () => listener.onLink("live");
    // The browser connects again by itself, with the last id that it saw.
    source.onerror = () => {
      listener.onLink("broken");
      if (source?.readyState === EventSource.CLOSED) {
        close();
        retry = window.setTimeout(open, 2_000);
      }
    };
    source.addEventListener("yarnloom.snapshot", (event) => listener.onSnapshot(dataOf(event)));
    for (const what of ["run", "graph", "pool", "schedule", "workers"]) {
      source.addEventListener(`yarnloom.${what}.changed`, (event) =>
        listener.onChange(dataOf(event as MessageEvent<string>) ?? {}),
      );
    }
  };
  const close = () => {
    source?.close();
    source = null;
  };
  const onVisibility = () => (document.hidden ? close() : open());

  let retry = 0;
  document.addEventListener("visibilitychange", onVisibility);
  open();
  return () => {
    document.removeEventListener("visibilitychange", onVisibility);
    window.clearTimeout(retry);
    close();
  };
}

/** What an attempt prints, line by line, until it has ended; the answer ends it. */
export function watchLog(
  run: number,
  address: string,
  onLine: (line: LogLine) => void,
): () => void {
  const source = new EventSource(logPath(run, address));
  source.addEventListener("yarnloom.line", (event: MessageEvent<string>) =>
    onLine((parseExact(event.data) as { data: LogLine }).data),
  );
  // The stream ends with the attempt; what broke in between is caught up with by the graph's own.
  source.onerror = () => source.close();
  return () => source.close();
}

function dataOf(event: MessageEvent<string>): Change | null {
  return (parseExact(event.data) as { data: Change | null }).data;
}
