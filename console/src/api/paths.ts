/** Addresses below the service's API. */

export const BASE = "/api/v1";

/** Of the live events of everything, with the graphs of some runs, from behind an event on. */
export function streamPath(graphs: string, after: string): string {
  const query = new URLSearchParams(after ? { after } : {});
  for (const run of graphs ? graphs.split(",") : []) query.append("graph", run);
  return `${BASE}/events?${query}`;
}
