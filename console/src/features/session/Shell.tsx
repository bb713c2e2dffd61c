import {
  ActionIcon,
  AppShell,
  Group,
  Text,
  useComputedColorScheme,
  useMantineColorScheme,
} from "@mantine/core";
import { IconMoon, IconSun } from "@tabler/icons-react";
import { NavLink, Outlet, useLocation } from "react-router";

import { useService } from "../../queries/looms";
import classes from "./Shell.module.css";
import { TokenGate } from "./TokenGate";

/** What stands around every page: the name, the ways, the light, and which service this is. */
export function Shell() {
  const onRun = useLocation().pathname.startsWith("/runs/");
  return (
    <AppShell header={{ height: 52 }} footer={{ height: 30 }} padding="md">
      <AppShell.Header className={classes.bar}>
        <Group h="100%" px="md" justify="space-between" wrap="nowrap">
          <Group gap="lg" wrap="nowrap">
            <NavLink to="/" className={classes.name}>
              <img src="/icon.svg" alt="" width={24} height={24} />
              Yarn Loom
            </NavLink>
            <Group component="nav" gap={4} wrap="nowrap" aria-label="Pages">
              <NavLink to="/" end className={classes.way} data-here={onRun || undefined}>
                Runs
              </NavLink>
              <NavLink to="/workflows" className={classes.way}>
                Workflows
              </NavLink>
              <NavLink to="/schedules" className={classes.way}>
                Schedules
              </NavLink>
              <NavLink to="/files" className={classes.way}>
                Files
              </NavLink>
              <NavLink to="/pools" className={classes.way}>
                Pools
              </NavLink>
              <NavLink to="/workers" className={classes.way}>
                Workers
              </NavLink>
            </Group>
          </Group>
          <LightSwitch />
        </Group>
      </AppShell.Header>
      <AppShell.Main>
        <TokenGate>
          <Outlet />
        </TokenGate>
      </AppShell.Main>
      <AppShell.Footer className={classes.bar}>
        <WhichService />
      </AppShell.Footer>
    </AppShell>
  );
}

function LightSwitch() {
  const { setColorScheme } = useMantineColorScheme();
  const dark = useComputedColorScheme("light") === "dark";
  return (
    <ActionIcon
      variant="subtle"
      color="gray"
      aria-label={dark ? "Use the light look" : "Use the dark look"}
      onClick={() => setColorScheme(dark ? "light" : "dark")}
    >
      {dark ? <IconSun size={18} /> : <IconMoon size={18} />}
    </ActionIcon>
  );
}

function WhichService() {
  const { data } = useService();
  return (
    <Group h="100%" px="md" gap="lg" wrap="nowrap">
      <Text size="xs" c="dimmed" truncate>
        {data
          ? `Yarn Loom ${data.version} · ${window.location.host} · data in ${data.data}`
          : window.location.host}
      </Text>
    </Group>
  );
}
