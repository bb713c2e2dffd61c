import "@fontsource-variable/inter";
import "@fontsource-variable/jetbrains-mono";
import "./mantine";
import "./styles.css";

import { Loader, MantineProvider } from "@mantine/core";
import { QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";

import { noteSignInProblem, signInByAddress } from "./api/session";
import { Empty } from "./components/ErrorNotes";
import { Shell } from "./features/session/Shell";
import { queryClient } from "./queries/queryClient";
import { theme } from "./theme";

const router = createBrowserRouter([
  {
    path: "/",
    element: <Shell />,
    HydrateFallback: () => <Loader m="xl" />,
    children: [
      {
        index: true,
        lazy: async () => ({
          Component: (await import("./features/overview/OverviewPage")).OverviewPage,
        }),
      },
      {
        path: "runs",
        lazy: async () => ({ Component: (await import("./features/runs/RunsPage")).RunsPage }),
      },
      {
        path: "runs/:number",
        lazy: async () => ({ Component: (await import("./features/runs/RunPage")).RunPage }),
      },
      {
        path: "workflows",
        lazy: async () => ({
          Component: (await import("./features/workflows/WorkflowsPage")).WorkflowsPage,
        }),
      },
      {
        path: "workflows/:loom/:name",
        lazy: async () => ({
          Component: (await import("./features/workflows/WorkflowPage")).WorkflowPage,
        }),
      },
      {
        path: "files",
        lazy: async () => ({ Component: (await import("./features/files/FilesPage")).FilesPage }),
      },
      {
        path: "pools",
        lazy: async () => ({ Component: (await import("./features/pools/PoolsPage")).PoolsPage }),
      },
      {
        path: "schedules",
        lazy: async () => ({
          Component: (await import("./features/schedules/SchedulesPage")).SchedulesPage,
        }),
      },
      {
        path: "workers",
        lazy: async () => ({
          Component: (await import("./features/workers/WorkersPage")).WorkersPage,
        }),
      },
      {
        path: "tokens",
        lazy: async () => ({
          Component: (await import("./features/tokens/TokensPage")).TokensPage,
        }),
      },
      { path: "*", element: <Empty title="There is no such page" /> },
    ],
  },
]);

const root = document.getElementById("root");
if (!root) throw new Error("index.html has no #root");
const page = createRoot(root);
// Before anything is asked: the first request is to be of the session that the address opens.
void signInByAddress().then((problem) => {
  noteSignInProblem(problem);
  page.render(
    <StrictMode>
      <QueryClientProvider client={queryClient}>
        <MantineProvider theme={theme} defaultColorScheme="auto">
          <RouterProvider router={router} />
        </MantineProvider>
      </QueryClientProvider>
    </StrictMode>,
  );
});
