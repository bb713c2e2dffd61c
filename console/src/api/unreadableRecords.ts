/** Records that the service cannot show: taken out of the lists, and said once. Knows no React. */

interface Marked {
  unreadable: string;
}

let found: readonly string[] = [];
const listeners = new Set<() => void>();

/** An answer without the records in its lists that cannot be shown. */
export function withoutUnreadable(answer: unknown): unknown {
  if (typeof answer !== "object" || answer === null || Array.isArray(answer)) return answer;
  const kept: Record<string, unknown> = { ...answer };
  for (const [name, list] of Object.entries(answer)) {
    if (!Array.isArray(list) || !list.some(isMarked)) continue;
    kept[name] = list.filter((one) => !isMarked(one));
    note(list.filter(isMarked));
  }
  return kept;
}

/** What was found so far, each with what is known of it. */
export function unreadable(): readonly string[] {
  return found;
}

export function subscribe(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

function isMarked(one: unknown): one is Marked {
  return typeof one === "object" && one !== null && "unreadable" in one;
}

function note(marked: Marked[]): void {
  const texts = marked.map(({ unreadable: why, ...known }) => {
    const which = Object.entries(known).map(([name, value]) => `${name} ${String(value)}`);
    return `${which.join(", ")}: ${why}`;
  });
  const fresh = texts.filter((text) => !found.includes(text));
  if (fresh.length === 0) return;
  found = [...found, ...fresh];
  for (const listener of listeners) listener();
}
