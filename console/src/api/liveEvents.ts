/** The live events, as they concern one page. Knows no React. */

import { logPath, parseExact } from "./http";
import { openEvents } from "./eventSource";
import { streamPath } from "./paths";
import { currentSession } from "./session";
import { Stream, type LinkState, type Wish, type Word } from "./stream";
import type { Glance, LogLine, Part, Pool, Run, RunLine, Schedule, Worker } from "./types";

export type { LinkState };

export interface Change {
  run?: Run;
  graph?: Part;
  /** The line that is made of this graph; the first look at a run may have none. */
  glance?: Glance;
  pool?: Pool;
  schedule?: Schedule;
  workers?: Worker[];
}

export interface Listener {
  /** Something changed; of a graph, `run` says whose it is. */
  onChange: (change: Change, run: number) => void;
  /** Changes may have been missed: what is shown must be looked at again. */
  onSnapshot: () => void;
  /** Whether the stream stands. */
  onLink: (state: LinkState) => void;
}

const listeners = new Map<Listener, number | null>();
let say: ((wish: Wish | null) => void) | null = null;
let link: LinkState = "connecting";
let covered = new Set<number>();

/** Listen to everything, with a run also to its graph; the answer ends it. */
export function watch(run: number | null, listener: Listener): () => void {
  say ??= connect();
  listeners.set(listener, run);
  listener.onLink(link);
  if (run !== null && covered.has(run)) listener.onSnapshot();
  wish();
  return () => {
    listeners.delete(listener);
    wish();
  };
}

function wish(): void {
  const graphs = [...new Set(listeners.values())].filter((run) => run !== null);
  say?.({ graphs, visible: !document.hidden, session: currentSession() });
}

/** Join the stream that all tabs share, or have one of its own. */
function connect(): (wish: Wish | null) => void {
  document.addEventListener("visibilitychange", wish);
  window.addEventListener("pagehide", () => say?.(null));
  window.addEventListener("pageshow", wish);
  if (typeof SharedWorker === "undefined") {
    const stream = new Stream<null>(streamPath, (_, word) => take(word));
    return (wanted) => (wanted ? stream.wish(null, wanted) : stream.leave(null));
  }
  const worker = new SharedWorker(new URL("./stream.worker.ts", import.meta.url), {
    type: "module",
    name: "yarnloom-events",
  });
  worker.port.onmessage = ({ data }: MessageEvent<Word>) => take(data);
  return (wanted) => worker.port.postMessage(wanted);
}

function take(word: Word): void {
  if (word.kind === "link") {
    link = word.state;
    for (const one of listeners.keys()) one.onLink(link);
    if (link !== "live") covered = new Set();
  } else if (word.kind === "open") {
    const before = covered;
    covered = new Set(word.graphs);
    // What came before the graph was in the stream may have been missed.
    for (const [one, run] of listeners) {
      if (run !== null && covered.has(run) && !before.has(run)) one.onSnapshot();
    }
  } else if (word.type === "snapshot") {
    for (const one of listeners.keys()) one.onSnapshot();
  } else {
    const { data, subject } = parseExact(word.data) as { data: Change | null; subject: string };
    for (const one of listeners.keys()) one.onChange(data ?? {}, Number(subject));
  }
}

/** What an attempt prints, line by line, until it has ended; the answer ends it. */
export function watchLog(
  run: number,
  address: string,
  onLine: (line: LogLine) => void,
): () => void {
  // The stream ends with the attempt; what broke in between is caught up with by the graph's own.
  return watchLines(
    () => logPath(run, address),
    onLine,
    () => false,
  );
}

/**
 * What all steps of a run print, from behind a mark on; the answer ends it.
 *
 * @param again whether a stream that ended is to be opened again, as the run goes on.
 */
export function watchRunLines(
  path: (after: string) => string,
  after: string,
  onLine: (line: RunLine) => void,
  again: () => boolean,
): () => void {
  let mark = after;
  const take = (line: RunLine) => {
    mark = line.mark;
    onLine(line);
  };
  return watchLines(() => path(mark), take, again);
}

/** Lines as they come, while somebody can see the tab. */
function watchLines<Line>(
  path: () => string,
  onLine: (line: Line) => void,
  again: () => boolean,
): () => void {
  let source: EventSource | null = null;
  let over = false;
  // Browsers allow few connections to one host: a tab that nobody sees holds none.
  const open = () => {
    if (document.hidden || over) {
      source?.close();
      source = null;
      return;
    }
    if (source) return;
    source = openEvents(path());
    source.addEventListener("yarnloom.line", (event: MessageEvent<string>) =>
      onLine((parseExact(event.data) as { data: Line }).data),
    );
    source.onerror = () => {
      if (again()) return; // the browser opens it again, from its last line on
      over = true;
      source?.close();
    };
  };
  document.addEventListener("visibilitychange", open);
  open();
  return () => {
    over = true;
    document.removeEventListener("visibilitychange", open);
    source?.close();
  };
}
