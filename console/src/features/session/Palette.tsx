import "@mantine/spotlight/styles.css";

import { Spotlight, type SpotlightActionData } from "@mantine/spotlight";
import { IconSearch } from "@tabler/icons-react";
import { useState } from "react";
import { useNavigate } from "react-router";

import { usePools, useWorkers } from "../../queries/pools";
import { useWorkflows } from "../../queries/workflows";
import { useSchedules } from "../../queries/schedules";
import { pathOf } from "../workflows/paramFields";
import { PAGES } from "./pages";

interface Props {
  onLight: () => void;
}

/** Goes anywhere by typing: pages, a run by number, workflows, pools, schedules, workers. */
export default function Palette({ onLight }: Props) {
  const navigate = useNavigate();
  const [query, setQuery] = useState("");
  const workflows = useWorkflows().data?.workflows ?? [];
  const pools = usePools().data?.pools ?? [];
  const schedules = useSchedules().data?.schedules ?? [];
  const workers = useWorkers().data?.workers ?? [];
  const go = (id: string, label: string, path: string, more?: string): SpotlightActionData => ({
    id,
    label,
    description: more,
    onClick: () => void navigate(path),
  });
  const number = /^#?(\d{1,15})$/.exec(query.trim())?.[1];
  const actions: SpotlightActionData[] = [
    ...(number ? [go("run", `Run ${number}`, `/runs/${number}`, query)] : []),
    ...PAGES.map(({ path, label }) => go(path, label, path, "page")),
    ...workflows.flatMap(({ name }) => [
      go(`workflow ${name}`, name, pathOf(name), "workflow"),
      go(`start ${name}`, `Start ${name}`, `${pathOf(name)}?start`, "opens its form"),
    ]),
    ...pools.map(({ name }) => go(`pool ${name}`, name, `/pools?${param("pool", name)}`, "pool")),
    ...schedules.map(({ name }) => go(`schedule ${name}`, name, "/schedules", "schedule")),
    ...workers.map(({ id, name }) => go(`worker ${id}`, name, "/workers", "worker")),
    ...["running", "failed", "paused"].map((state) =>
      go(`runs ${state}`, `Runs that are ${state}`, `/runs?state=${state}`, "list"),
    ),
    { id: "light", label: "Light or dark look", onClick: onLight },
    ...(query.trim()
      ? [go("search", `Runs with “${query.trim()}”`, `/runs?${param("text", query)}`, "search")]
      : []),
  ];
  return (
    <Spotlight
      actions={actions}
      query={query}
      onQueryChange={setQuery}
      shortcut={["mod + K", "/"]}
      limit={9}
      highlightQuery
      scrollable
      maxHeight={380}
      nothingFound="Nothing has that name"
      searchProps={{
        leftSection: <IconSearch size={17} />,
        placeholder: "a page, a run’s number, a workflow, a pool…",
        "aria-label": "Go to",
      }}
      filter={(text, all) => {
        const words = text.toLowerCase().split(/\s+/).filter(Boolean);
        return (all as SpotlightActionData[]).filter(
          (one) =>
            ["run", "search"].includes(one.id) ||
            words.every((word) =>
              `${one.label ?? ""} ${one.description ?? ""}`.toLowerCase().includes(word),
            ),
        );
      }}
    />
  );
}

function param(name: string, value: string): string {
  return new URLSearchParams({ [name]: value.trim() }).toString();
}
