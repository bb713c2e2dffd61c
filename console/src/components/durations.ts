import { createContext, useContext, useSyncExternalStore } from "react";

/** A duration with the one or two units that matter. */
export function spell(seconds: number): string {
  if (seconds < 0.001) return "<1 ms";
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`;
  if (seconds < 10) return `${seconds.toFixed(1)} s`;
  if (seconds < 60) return `${Math.round(seconds)} s`;
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min ${Math.floor(seconds % 60)} s`;
  const hours = Math.floor(minutes / 60);
  return hours < 48 ? `${hours} h ${minutes % 60} min` : `${Math.floor(hours / 24)} days`;
}

/** A time in the viewer's zone. */
export function exactTime(at: string): string {
  return new Date(at).toLocaleString(undefined, { dateStyle: "medium", timeStyle: "short" });
}

/** A time of the day in the viewer's zone, to the second. */
export function exactSecond(at: string): string {
  return new Date(at).toLocaleTimeString(undefined, { timeStyle: "medium" });
}

let now = Date.now();
const listeners = new Set<() => void>();
let timer = 0;

/** A moment that is looked at as if it were now, in milliseconds since 1970; null is the present. */
export const Moment = createContext<number | null>(null);

/** The present, a second at a time; one timer for the whole page, and none while it is hidden. */
export function useNow(): number {
  const present = useSyncExternalStore(subscribe, () => now);
  return useContext(Moment) ?? present;
}

function subscribe(listener: () => void): () => void {
  listeners.add(listener);
  if (!timer) {
    now = Date.now();
    timer = window.setInterval(() => {
      if (document.hidden) return;
      now = Date.now();
      for (const one of listeners) one();
    }, 1000);
  }
  return () => {
    listeners.delete(listener);
    if (!listeners.size) {
      window.clearInterval(timer);
      timer = 0;
    }
  };
}
