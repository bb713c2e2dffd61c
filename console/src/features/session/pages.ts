/** The console's pages, as the bar at the top and the palette list them. */

export const PAGES = [
  { path: "/", label: "Overview" },
  { path: "/runs", label: "Runs" },
  { path: "/workflows", label: "Workflows" },
  { path: "/schedules", label: "Schedules" },
  { path: "/files", label: "Files" },
  { path: "/pools", label: "Pools" },
  { path: "/workers", label: "Workers" },
];
