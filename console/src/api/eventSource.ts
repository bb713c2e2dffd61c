/** Event streams of the service, which need the session's header. Knows no React. */

import { EventSource as FetchedEvents } from "eventsource";

import { sessionHeaders } from "./session";

/** Opens a stream; a browser's own has no way to send a header. */
export function openEvents(path: string, session?: string): EventSource {
  const source = new FetchedEvents(new URL(path, location.origin), {
    fetch: (url, init) =>
      fetch(url, { ...init, headers: { ...init.headers, ...sessionHeaders(session) } }),
  });
  return source as unknown as EventSource;
}
