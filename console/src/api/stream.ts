/**
 * The one event stream that all tabs share. It lives in a worker that the tabs have in common (see
 * `stream.worker.ts`), or, where a browser has none, in the page itself. Knows no React.
 */

import { openEvents } from "./eventSource";

export type LinkState = "connecting" | "live" | "broken";

/** What a tab says of itself, whenever that changes. */
export interface Wish {
  /** The runs whose graphs it shows. */
  graphs: number[];
  /** Whether anybody can see it. */
  visible: boolean;
  /** The browser's session: a worker cannot look it up. */
  session: string;
}

/** What tabs are told. */
export type Word =
  | { kind: "link"; state: LinkState }
  /** The stream stands; graphs of other runs than these are not in it. */
  | { kind: "open"; graphs: number[] }
  | { kind: "event"; type: string; data: string };

const TYPES = ["snapshot", "run.changed", "graph.changed", "pool.changed", "schedule.changed"];
TYPES.push("workers.changed");
const AGAIN = 2_000;

/** Holds the stream for some tabs: open while one of them is visible, with the graphs they show. */
export class Stream<Tab> {
  private readonly wishes = new Map<Tab, Wish>();
  private source: EventSource | null = null;
  private graphs = "";
  private session = "";
  private last = "";
  private retry: ReturnType<typeof setTimeout> | undefined;
  private state: LinkState = "connecting";

  /**
   * @param path gives the stream's address, for the runs whose graphs are wanted, from behind an
   *   event on.
   * @param tell tells one tab.
   * @param openSource opens a stream in a session.
   */
  constructor(
    private readonly path: (graphs: string, after: string) => string,
    private readonly tell: (tab: Tab, word: Word) => void,
    private readonly openSource = openEvents,
  ) {}

  /** A tab came, or wants something else. */
  wish(tab: Tab, wish: Wish): void {
    const known = this.wishes.has(tab);
    this.wishes.set(tab, wish);
    this.adjust();
    if (known) return;
    this.tell(tab, { kind: "link", state: this.state });
    if (this.state === "live") this.tell(tab, { kind: "open", graphs: this.shown() });
  }

  /** A tab has gone. */
  leave(tab: Tab): void {
    this.wishes.delete(tab);
    this.adjust();
  }

  private adjust(): void {
    const wishes = [...this.wishes.values()];
    if (!wishes.some(({ visible }) => visible)) {
      this.close();
      return;
    }
    const wanted = [...new Set(wishes.flatMap(({ graphs }) => graphs))].sort((a, b) => a - b);
    const graphs = wanted.join(",");
    const session = wishes.at(-1)?.session ?? "";
    if (this.source && graphs === this.graphs && session === this.session) return;
    this.graphs = graphs;
    this.session = session;
    this.open();
  }

  private shown(): number[] {
    return this.graphs ? this.graphs.split(",").map(Number) : [];
  }

  private open(): void {
    this.close();
    this.say("connecting");
    const source = this.openSource(this.path(this.graphs, this.last), this.session);
    this.source = source;
    source.onopen = () => {
      this.say("live");
      for (const tab of this.wishes.keys()) this.tell(tab, { kind: "open", graphs: this.shown() });
    };
    // It connects again by itself, with the last id that it saw, unless it was refused.
    source.onerror = () => {
      this.say("broken");
      if (source.readyState === EventSource.CLOSED && this.source === source) {
        this.source = null;
        this.retry = setTimeout(() => this.adjust(), AGAIN);
      }
    };
    for (const type of TYPES) {
      source.addEventListener(`yarnloom.${type}`, (event: MessageEvent<string>) => {
        this.last = event.lastEventId;
        const word: Word = { kind: "event", type, data: event.data };
        for (const tab of this.wishes.keys()) this.tell(tab, word);
      });
    }
  }

  private close(): void {
    clearTimeout(this.retry);
    this.source?.close();
    this.source = null;
  }

  private say(state: LinkState): void {
    this.state = state;
    for (const tab of this.wishes.keys()) this.tell(tab, { kind: "link", state });
  }
}
