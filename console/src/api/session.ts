/**
 * The browser's session: a cookie that only the service reads, and a secret that only pages of this
 * origin have. Cookies go to every port of a host, so neither is enough alone. Knows no React.
 */

import { BASE } from "./paths";

const KEY = "yarnloom-session";
const FRAGMENT = "#sign-in=";
const HEADER = "Yarnloom-Session";

/** What a request sends so that the service knows this browser; empty where it is not signed in. */
export function sessionHeaders(session = currentSession()): Record<string, string> {
  return session ? { [HEADER]: session } : {};
}

/** The secret of this origin's session; empty for none. */
export function currentSession(): string {
  return localStorage.getItem(KEY) ?? "";
}

/** Forget the session here. */
export function forgetSession(): void {
  localStorage.removeItem(KEY);
}

/** Sign in with a token or the code of a one-time address; why that could not be, if so. */
export async function signIn(given: { token: string } | { code: string }): Promise<string> {
  let answer: Response;
  try {
    answer = await fetch(`${BASE}/session`, {
      method: "POST",
      headers: { "Content-Type": "application/json" },
      body: JSON.stringify(given),
    });
  } catch {
    return "The service does not answer. Is it running?";
  }
  const found = (await answer.json().catch(() => ({}))) as {
    session?: string;
    detail?: string;
    hint?: string;
  };
  if (answer.ok && found.session) {
    localStorage.setItem(KEY, found.session);
    return "";
  }
  const why = found.detail ?? `The service answered ${answer.status}.`;
  return "code" in given && found.hint ? `${why} ${found.hint}.` : why;
}

let problemAtStart = "";

/** Remember why the address with which the page was opened did not sign in. */
export function noteSignInProblem(problem: string): void {
  problemAtStart = problem;
}

/** Why it did not; empty where it did, or was none. */
export function signInProblem(): string {
  return problemAtStart;
}

/** Take the code out of a one-time address, so that it is not kept, and sign in with it. */
export async function signInByAddress(): Promise<string> {
  const { hash, pathname, search } = window.location;
  if (!hash.startsWith(FRAGMENT)) return "";
  window.history.replaceState(null, "", pathname + search);
  return signIn({ code: decodeURIComponent(hash.slice(FRAGMENT.length)) });
}

/** The path with a code with which the browser itself can open it, once and soon. */
export async function withCode(path: string): Promise<string> {
  const answer = await fetch(`${BASE}/session/downloads`, {
    method: "POST",
    headers: { "Content-Type": "application/json", ...sessionHeaders() },
    body: JSON.stringify({ path }),
  });
  if (!answer.ok) throw new Error(`The service answered ${answer.status}.`);
  const { code } = (await answer.json()) as { code: string };
  return `${path}${path.includes("?") ? "&" : "?"}once=${encodeURIComponent(code)}`;
}
