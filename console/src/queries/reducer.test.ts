import { expect, test } from "vitest";

import type { LogLine, Part, Pool, Run, RunLine } from "../api/types";
import { keys, NO_FILTER } from "./queryClient";
import { reduce, withPool, type Effect, type Shown } from "./reducer";

/** What is shown, as a test says. */
function shown(known: [readonly unknown[], unknown][] = [], open: string[] = []): Shown {
  const name = (key: readonly unknown[]) => JSON.stringify(key);
  const values = new Map(known.map(([key, value]) => [name(key), value]));
  return {
    get: <T>(key: readonly unknown[]) => values.get(name(key)) as T | undefined,
    lists: () => known.filter(([key]) => key[0] === "runs") as ReturnType<Shown["lists"]>,
    openSteps: () => new Set(open),
  };
}

const run = (number: number, state = "running") => ({ number, state }) as Run;
const page = (...runs: Run[]) => ({ pages: [{ runs, next: "" }], pageParams: [""] });
const step = (address: string, state: string) => ({ kind: "step", address, state }) as Part;
const inSequence = (...parts: Part[]) => ({ kind: "sequence", address: "1", parts }) as Part;
const asked = (effects: Effect[]) =>
  effects.flatMap((effect) => (effect.do === "ask again" ? [effect.what] : []));

test("a run is shown, and swapped in the lists that show it", () => {
  const list = keys.runs(NO_FILTER);
  const before = shown([[list, page(run(2), run(1))]]);

  const effects = reduce(before, { kind: "changed", change: { run: run(1, "done") } });

  expect(effects).toContainEqual({ do: "show", key: keys.run(1), value: run(1, "done") });
  const value = page(run(2), run(1, "done"));
  expect(effects).toContainEqual({ do: "replace", key: list, value });
  expect(asked(effects)).toEqual(["counts", "overview", "why"]);
});

test("lists that may have to show a run are asked for, not changed", () => {
  const byState = keys.runs({ ...NO_FILTER, state: "running" });
  for (const before of [
    shown([[keys.runs(NO_FILTER), page(run(2))]]),
    shown([[byState, page(run(1))]]),
    shown([[keys.runs(NO_FILTER), undefined]]),
  ]) {
    const effects = reduce(before, { kind: "changed", change: { run: run(1, "done") } });
    expect(asked(effects)).toContain("runs");
    expect(effects.filter((effect) => effect.do === "replace")).toEqual([]);
  }
});

test("a pool takes its place by name, unless the list has a newer one", () => {
  const pool = (name: string, as_of: number) => ({ name, as_of }) as unknown as Pool;
  const before = shown([[keys.pools, { pools: [pool("a", 5), pool("c", 5)] }]]);

  const value = { pools: [pool("a", 5), pool("b", 1), pool("c", 5)] };
  expect(withPool(before, pool("b", 1))).toEqual([{ do: "replace", key: keys.pools, value }]);
  expect(withPool(before, pool("a", 4))).toEqual([]);
  expect(withPool(shown(), pool("a", 9))).toEqual([]);
});

test("of the steps whose details are open only those that changed are asked for", () => {
  const graph = inSequence(step("1/a", "done"), step("1/b", "running"), step("1/c", "ready"));
  const key = keys.graph(1, "");
  const old = inSequence(step("1/a", "done"), step("1/b", "ready"), step("1/c", "waiting"));
  const before = shown([[key, old]], ["1/a", "1/b"]);

  const effects = reduce(before, { kind: "run changed", run: 1, change: { graph } });

  expect(effects[0]).toEqual({ do: "show", key, value: graph });
  const steps = effects.filter((effect) => effect.do === "ask again" && effect.what === "step");
  expect(steps).toEqual([{ do: "ask again", what: "step", key: keys.step(1, "1/b") }]);
  expect(asked(effects)).toEqual(["step", "log", "items", "attempts", "failures", "times"]);
});

test("a line comes once, and of very many the newest stay", () => {
  const line = (number: number) => ({ line: number, text: "x" }) as LogLine;
  const key = keys.log(1, "1/a#1");
  const many = Array.from({ length: 2_000 }, (_, number) => line(number));
  const event = (number: number) =>
    ({ kind: "line", run: 1, address: "1/a#1", line: line(number) }) as const;

  const [effect] = reduce(shown([[key, { lines: many }]]), event(2_000));
  const lines = [...many.slice(1), line(2_000)];
  expect(effect).toEqual({ do: "replace", key, value: { lines } });
  expect(reduce(shown([[key, { lines: many }]]), event(1_999))).toEqual([]);
  expect(reduce(shown(), event(0))).toHaveLength(1);
});

test("a line of a run comes behind the newest page, once", () => {
  const line = (mark: string) => ({ mark, text: "x" }) as unknown as RunLine;
  const key = keys.lines(1, "", "");
  const pages = [
    { lines: [line("a")], next: null, end: "a" },
    { lines: [], next: null, end: "" },
  ];
  const known = shown([[key, { pages, pageParams: [] }]]);

  const [effect] = reduce(known, { kind: "run line", key, line: line("b") });
  const first = { lines: [line("a"), line("b")], next: null, end: "a" };
  expect(effect).toMatchObject({ do: "replace", key, value: { pages: [first, pages[1]] } });
  expect(reduce(known, { kind: "run line", key, line: line("a") })).toEqual([]);
  expect(reduce(shown(), { kind: "run line", key, line: line("a") })).toEqual([]);
});

test("after a gap all that may have changed is asked for", () => {
  const [lists, failed] = reduce(shown(), { kind: "gap" });
  expect(lists).toMatchObject({ do: "ask now" });
  expect(lists?.do === "ask now" && lists.keys).toContainEqual(keys.workers);
  expect(failed).toEqual({ do: "ask now", failed: true });
  expect(reduce(shown(), { kind: "gap of run", run: 3 })).toEqual([{ do: "ask now", run: 3 }]);
});
