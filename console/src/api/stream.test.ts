import { beforeEach, describe, expect, it, vi } from "vitest";

import { Stream, type Word } from "./stream";

class FakeSource {
  static CLOSED = 2;
  static made: FakeSource[] = [];
  readyState = 0;
  onopen = () => {};
  onerror = () => {};
  closed = false;
  private heard = new Map<string, (event: { data: string; lastEventId: string }) => void>();
  constructor(readonly url: string) {
    FakeSource.made.push(this);
  }
  addEventListener(type: string, take: (event: { data: string; lastEventId: string }) => void) {
    this.heard.set(type, take);
  }
  send(type: string, id: string) {
    this.heard.get(`yarnloom.${type}`)?.({ data: `{"of":"${id}"}`, lastEventId: id });
  }
  close() {
    this.closed = true;
  }
}

const path = (graphs: string, after: string) => `events?graphs=${graphs}&after=${after}`;
const newest = () => FakeSource.made.at(-1) as FakeSource;

function stream() {
  const told: [string, Word][] = [];
  const made = new Stream<string>(
    path,
    (tab, word) => told.push([tab, word]),
    (url) => new FakeSource(url) as unknown as EventSource,
  );
  return { made, told };
}

beforeEach(() => {
  FakeSource.made = [];
  vi.stubGlobal("EventSource", FakeSource);
});

describe("the event stream", () => {
  it("is one for all tabs, and each is told", () => {
    const { made, told } = stream();
    made.wish("a", { graphs: [7], visible: true, session: "s" });
    made.wish("b", { graphs: [7], visible: true, session: "s" });
    newest().onopen();
    newest().send("run.changed", "e-1");

    expect(FakeSource.made).toHaveLength(1);
    expect(told.filter(([, { kind }]) => kind === "event").map(([tab]) => tab)).toEqual(["a", "b"]);
  });

  it("is opened anew behind the last event when another graph is wanted", () => {
    const { made } = stream();
    made.wish("a", { graphs: [7], visible: true, session: "s" });
    newest().send("run.changed", "e-5");
    const first = newest();
    made.wish("b", { graphs: [3], visible: true, session: "s" });

    expect(first.closed).toBe(true);
    expect(newest().url).toBe("events?graphs=3,7&after=e-5");
    made.leave("b");
    expect(newest().url).toBe("events?graphs=7&after=e-5");
  });

  it("is closed while nobody sees any tab", () => {
    const { made } = stream();
    made.wish("a", { graphs: [], visible: true, session: "s" });
    made.wish("a", { graphs: [], visible: false, session: "s" });

    expect(newest().closed).toBe(true);
    made.wish("a", { graphs: [], visible: true, session: "s" });
    expect(FakeSource.made).toHaveLength(2);
  });

  it("says which graphs are in it to a tab that comes later", () => {
    const { made, told } = stream();
    made.wish("a", { graphs: [7], visible: true, session: "s" });
    newest().onopen();
    made.wish("b", { graphs: [7], visible: true, session: "s" });

    expect(told.filter(([tab]) => tab === "b").map(([, word]) => word)).toEqual([
      { kind: "link", state: "live" },
      { kind: "open", graphs: [7] },
    ]);
  });

  it("tries again where it was refused", () => {
    vi.useFakeTimers();
    const { made, told } = stream();
    made.wish("a", { graphs: [], visible: true, session: "s" });
    newest().readyState = FakeSource.CLOSED;
    newest().onerror();
    vi.advanceTimersByTime(2_000);
    vi.useRealTimers();

    expect(told.at(-2)?.[1]).toEqual({ kind: "link", state: "broken" });
    expect(FakeSource.made).toHaveLength(2);
  });
});
