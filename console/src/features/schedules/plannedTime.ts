/** A planned time as its zone's clock shows it: "Sun 29 Mar 2026, 03:00 +02:00". */
export function plannedTime(at: string): string {
  const found = /^(\d+)-(\d+)-(\d+)T(\d+:\d+)(?::\d+)?(?:\.\d+)?(.*)$/.exec(at);
  if (!found) return at;
  const [, year, month, day, clock, offset] = found;
  const date = new Date(Date.UTC(Number(year), Number(month) - 1, Number(day)));
  const shown = date.toLocaleDateString("en-GB", {
    timeZone: "UTC",
    weekday: "short",
    day: "numeric",
    month: "short",
    year: "numeric",
  });
  return `${shown.replace(",", "")}, ${clock} ${offset}`;
}
