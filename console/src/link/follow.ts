/**
 * Follows the run of a link, from any site: `follow(address, onChange)`. The service gives it out as
 * `/follow.js`; it needs nothing else, and is to stay below 3 kB.
 */

export interface Published {
  line: number;
  at: string;
  value: unknown;
  to?: string;
  append?: boolean;
  attempt: number;
}

export interface Followed {
  /** The run as the link shows it; null until it is known. */
  run: Record<string, unknown> | null;
  /** What was published without a name, in its order. */
  published: Published[];
  /** What was published with a name: the newest of each, and texts that grow. */
  named: Record<string, unknown>;
  /** `over` once the link shows nothing more, as `reason` says. */
  connection: "connecting" | "live" | "broken" | "over";
  reason: string;
}

const FIRST_PAUSE = 250;
const LONGEST_PAUSE = 10_000;

/**
 * Follow the run of a link.
 *
 * @param address that of the link's page, with its secret in the fragment.
 * @param onChange is told all that is known, whenever something has changed.
 * @returns what ends it.
 */
export function follow(address: string, onChange: (now: Followed) => void): () => void {
  const url = new URL(address, typeof location === "undefined" ? undefined : location.href);
  const ending = new AbortController();
  const attempts: Record<string, number> = {};
  let now: Followed = { run: null, published: [], named: {}, connection: "connecting", reason: "" };
  let last = "";
  let pause = FIRST_PAUSE;

  const change = (changed: Partial<Followed>) => {
    now = { ...now, ...changed };
    if (!ending.signal.aborted) onChange(now);
  };
  const end = (reason: string) => {
    change({ connection: "over", reason });
    ending.abort();
  };
  const publish = (entry: Published) => {
    const { to, value, append, attempt } = entry;
    if (!to) return change({ published: [...now.published, entry] });
    // What grows belongs to one attempt: the next one begins it anew.
    const before = append && attempts[to] === attempt ? now.named[to] : "";
    attempts[to] = attempt;
    change({
      named: { ...now.named, [to]: append ? `${before as string}${value as string}` : value },
    });
  };
  const take = (block: string) => {
    const fields: Record<string, string> = {};
    for (const line of block.split(/\r?\n/)) {
      const at = line.indexOf(":");
      if (at > 0) fields[line.slice(0, at)] = line.slice(at + 1).trim();
    }
    if (fields.id) last = fields.id;
    if (!fields.data) return;
    const { type, data } = JSON.parse(fields.data) as { type: string; data: never };
    if (type === "yarnloom.run.changed") change({ run: data });
    else if (type === "yarnloom.published") publish(data);
    else if (type === "yarnloom.link.expired") end("this link has ended");
  };
  const read = async () => {
    const headers: Record<string, string> = { "Yarnloom-Link": url.hash.slice(1) };
    if (last) headers["Last-Event-ID"] = last;
    const path = new URL("/api/v1/link/events", url);
    const answer = await fetch(path, { headers, signal: ending.signal, cache: "no-store" });
    if ([403, 404, 410].includes(answer.status)) {
      const problem = (await answer.json()) as { detail?: string };
      return end(problem.detail ?? "this link shows nothing");
    }
    if (!answer.ok || !answer.body) throw new Error(`answer ${answer.status}`);
    change({ connection: "live" });
    const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
    let text = "";
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return;
      pause = FIRST_PAUSE;
      text += value;
      const blocks = text.split(/\r?\n\r?\n/);
      text = blocks.pop() ?? "";
      blocks.forEach(take);
    }
  };
  const keepReading = async () => {
    while (!ending.signal.aborted) {
      await read().catch(() => undefined);
      if (ending.signal.aborted) return;
      change({ connection: "broken" });
      await new Promise((resolve) => setTimeout(resolve, pause));
      pause = Math.min(LONGEST_PAUSE, pause * 2);
    }
  };
  void keepReading();
  return () => ending.abort();
}
