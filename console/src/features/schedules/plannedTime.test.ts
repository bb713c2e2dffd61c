import { describe, expect, it } from "vitest";

import { plannedTime } from "./plannedTime";

describe("plannedTime", () => {
  it("shows the schedule's own clock, whatever the viewer's is", () => {
    expect(plannedTime("2026-03-29T03:00:00+02:00")).toBe("Sun 29 Mar 2026, 03:00 +02:00");
    expect(plannedTime("2026-12-31T23:30:00-05:00")).toBe("Thu 31 Dec 2026, 23:30 -05:00");
  });

  it("leaves what it does not know as it is", () => {
    expect(plannedTime("soon")).toBe("soon");
  });
});
