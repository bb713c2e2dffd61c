/** Requests to the service. Knows no React. */

import { BASE } from "./paths";
import { sessionHeaders } from "./session";
import type { Json } from "./types";
import { withoutUnreadable } from "./unreadableRecords";

export interface BadInput {
  pointer: string;
  detail: string;
  /** Of a mistake in a file: its line. */
  line?: number;
}

/** An answer that says no, or no answer at all (`status` 0). */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly problems: BadInput[] = [],
  ) {
    super(message);
  }
}

const WHO = "console";

/** The answer to a GET. */
export function get<T>(path: string): Promise<T> {
  return request<T>("GET", path);
}

/** The answer to a POST. */
export function post<T>(path: string, body: Json): Promise<T> {
  return request<T>("POST", path, body);
}

/** The answer to a PATCH. */
export function patch<T>(path: string, body: Json): Promise<T> {
  return request<T>("PATCH", path, body);
}

/** The answer to a PUT. */
export function put<T>(path: string, body: Json): Promise<T> {
  return request<T>("PUT", path, body);
}

/** Remove something. */
export function remove(path: string): Promise<null> {
  return request<null>("DELETE", path);
}

/** The address of what an attempt prints, live. */
export function logPath(run: number, address: string): string {
  return `${BASE}/runs/${run}/log/live?${new URLSearchParams({ address })}`;
}

/** The address of what a run's steps print, live, from behind a mark on. */
export function linesPath(run: number, address: string, text: string, after: string): string {
  return `${BASE}/runs/${run}/lines/live?${new URLSearchParams({ address, text, after })}`;
}

/** The address of an each's items with what came of them, all or those in a state. */
export function exportPath(run: number, address: string, form: string, state: string | null) {
  const query = new URLSearchParams({ address, as: form, ...(state ? { state } : {}) });
  return `${BASE}/runs/${run}/export?${query}`;
}

/** The address of all that is known of a run. */
export function recordPath(run: number): string {
  return `${BASE}/runs/${run}/record`;
}

async function request<T>(method: string, path: string, body?: Json): Promise<T> {
  const headers: Record<string, string> = { "Yarnloom-Who": WHO, ...sessionHeaders() };
  if (body !== undefined) headers["Content-Type"] = "application/json";
  let answer: Response;
  try {
    answer = await fetch(BASE + path, {
      method,
      headers,
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new ApiError(0, "not-reachable", "The service does not answer. Is it running?");
  }
  const text = await answer.text();
  if (answer.ok) return (text ? withoutUnreadable(parseExact(text)) : null) as T;
  throw toError(answer.status, text);
}

function toError(status: number, text: string): ApiError {
  try {
    const problem = JSON.parse(text) as {
      type?: string;
      detail?: string;
      hint?: string;
      problems?: BadInput[];
    };
    const code = (problem.type ?? "").replace("urn:yarnloom:", "");
    const said = problem.detail ?? `Answer ${status}`;
    // What it would take to be allowed; other hints name commands, which are of no use here.
    const hint = status === 403 && problem.hint ? ` ${problem.hint}` : "";
    return new ApiError(status, code, said + hint, problem.problems);
  } catch {
    return new ApiError(status, "bad-answer", `The service answered ${status}.`);
  }
}

/** JSON with integers that a number cannot hold kept exact, as text. */
export function parseExact(text: string): unknown {
  // Looking at each value takes ten times as long, and few texts have such a number.
  if (!/\d{16}/.test(text)) return JSON.parse(text);
  const keep = (_key: string, value: unknown, context?: { source?: string }) =>
    typeof value === "number" && Number.isInteger(value) && !Number.isSafeInteger(value)
      ? (context?.source ?? value)
      : value;
  return JSON.parse(text, keep as (key: string, value: unknown) => unknown);
}
