/** The page of a link: one run, for people who have nothing but its address. Plain, and small. */

import "@fontsource-variable/inter";
import "./linkPage.css";

import type { LinkedRun } from "../api/types";
import { follow, type Followed } from "./follow";

const ICONS: Record<string, string> = {
  scheduled: "◷",
  queued: "◔",
  waiting: "○",
  ready: "◔",
  running: "●",
  pausing: "◫",
  paused: "‖",
  backing_off: "↻",
  resting: "☾",
  cancelling: "◌",
  done: "✓",
  failed: "✗",
  cancelled: "⊘",
  skipped: "»",
};
const SHOWN = 200;
const root = document.getElementById("run");

/** An element with a class, and texts or elements in it. */
function made(tag: string, kind: string, ...inner: (Node | string)[]): HTMLElement {
  const found = document.createElement(tag);
  if (kind) found.className = kind;
  found.append(...inner);
  return found;
}

function text(value: unknown): string {
  if (typeof value === "string") return value;
  const short = JSON.stringify(value);
  return short.length < 80 ? short : JSON.stringify(value, null, 1);
}

function spell(seconds: number): string {
  if (seconds < 90) return `${Math.max(1, Math.round(seconds))} s`;
  if (seconds < 5_400) return `${Math.round(seconds / 60)} min`;
  return `${Math.round(seconds / 3_600)} h`;
}

function time(at: string | null): string {
  return at ? new Date(at).toLocaleString() : "–";
}

function stateOf(state: string): HTMLElement {
  const shown = made("span", "state", `${ICONS[state] ?? "○"} ${state.replace("_", " ")}`);
  shown.dataset.dye = state;
  return shown;
}

function progressOf({ progress, ended_at: ended }: LinkedRun): HTMLElement[] {
  const { fraction, text: words, seconds_left: left } = progress;
  const bar = document.createElement("progress");
  bar.setAttribute("aria-label", "how far it is");
  bar.max = 1;
  if (ended) bar.value = 1;
  else if (fraction !== null) bar.value = fraction;
  const said = [
    fraction === null || ended ? "" : `${Math.floor(100 * fraction)}%`,
    words,
    left === null || ended ? "" : `about ${spell(left)} left`,
  ];
  return [bar, made("p", "dim", said.filter(Boolean).join(" · "))];
}

function detailsOf(run: LinkedRun): HTMLElement[] {
  const found: HTMLElement[] = [];
  if (run.error) {
    const { type, message } = run.error as { type?: string; message?: string };
    found.push(made("h2", "", "Error"), made("pre", "", `${type ?? ""}: ${message ?? ""}`));
  }
  if (run.steps?.length) {
    const list = made("ul", "steps");
    for (const { address, state } of run.steps) {
      list.append(made("li", "", stateOf(state), made("span", "", ` ${address}`)));
    }
    found.push(made("h2", "", "Steps"), list);
  }
  if (run.output !== undefined && run.output !== null) {
    found.push(made("h2", "", "Output"), made("pre", "", text(run.output)));
  }
  return found;
}

function draw({ run: data, published, named, connection, reason }: Followed): void {
  if (!root) return;
  const run = data as LinkedRun | null;
  const parts: HTMLElement[] = [];
  if (connection === "over") parts.push(made("p", "note", `${reason}.`));
  if (connection === "broken")
    parts.push(made("p", "note", "The connection broke; it is tried again."));
  if (run) {
    document.title = `${ICONS[run.state] ?? ""} Run ${run.number} · ${run.state}`;
    parts.push(
      made("h1", "", `Run ${run.number} `, stateOf(run.state)),
      made("p", "", run.message),
      ...progressOf(run),
      made("p", "dim", `started ${time(run.started_at)} · ended ${time(run.ended_at)}`),
    );
  } else if (connection !== "over") parts.push(made("p", "dim", "Asking the service…"));
  for (const [name, value] of Object.entries(named)) {
    parts.push(made("h2", "", name), made("pre", "", text(value)));
  }
  if (published.length) {
    const list = made("ol", "");
    for (const { value } of published.slice(-SHOWN)) list.append(made("li", "", text(value)));
    parts.push(made("h2", "", "Published"), list);
    if (published.length > SHOWN) parts.push(made("p", "dim", `the newest ${SHOWN} are shown`));
  }
  if (run) parts.push(...detailsOf(run));
  root.replaceChildren(...parts);
}

follow(window.location.href, draw);
