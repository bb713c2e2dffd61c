import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { expect, test, vi } from "vitest";

import { put } from "./updateCache";

test("an answer that was on its way when an event came does not stay", async () => {
  vi.useFakeTimers();
  const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } });
  const answers: ((state: string) => void)[] = [];
  const ask = () => new Promise<string>((resolve) => answers.push(resolve));
  const shown = new QueryObserver<string>(client, { queryKey: ["run", 1], queryFn: ask });
  const end = shown.subscribe(() => undefined);
  await vi.advanceTimersByTimeAsync(1);
  expect(answers).toHaveLength(1);

  put(client, ["run", 1], "cancelled");
  answers[0]?.("running");
  await vi.advanceTimersByTimeAsync(1);
  expect(client.getQueryData(["run", 1])).toBe("running");

  await vi.advanceTimersByTimeAsync(200);
  expect(answers).toHaveLength(2);
  answers[1]?.("cancelled");
  await vi.advanceTimersByTimeAsync(1);
  expect(client.getQueryData(["run", 1])).toBe("cancelled");
  end();
  vi.useRealTimers();
});

test("an event alone asks for nothing", async () => {
  vi.useFakeTimers();
  const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } });
  const ask = vi.fn(() => Promise.resolve("running"));
  const shown = new QueryObserver<string>(client, { queryKey: ["run", 1], queryFn: ask });
  const end = shown.subscribe(() => undefined);
  await vi.advanceTimersByTimeAsync(1);
  put(client, ["run", 1], "cancelled");
  await vi.advanceTimersByTimeAsync(1_000);
  expect(ask).toHaveBeenCalledTimes(1);
  expect(client.getQueryData(["run", 1])).toBe("cancelled");
  end();
  vi.useRealTimers();
});
