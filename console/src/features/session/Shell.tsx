import {
  ActionIcon,
  Anchor,
  AppShell,
  Button,
  Group,
  Menu,
  Text,
  Tooltip,
  useComputedColorScheme,
  useMantineColorScheme,
} from "@mantine/core";
import { IconMenu2, IconMoon, IconSearch, IconSun } from "@tabler/icons-react";
import { lazy, Suspense, useEffect, useState } from "react";
import { NavLink, Outlet, useLocation } from "react-router";

import { LinkNote } from "../../components/LinkNote";
import { UnreadableNote } from "../../components/UnreadableNote";
import { currentSession } from "../../api/session";
import { useCaller, useSignOut } from "../../queries/access";
import { useLive } from "../../queries/liveUpdates";
import { useService } from "../../queries/workflows";
import { PAGES } from "./pages";
import classes from "./Shell.module.css";
import { TokenGate } from "./TokenGate";

const Palette = lazy(() => import("./Palette"));

/** What stands around every page: the name, the ways, the light, and which service this is. */
export function Shell() {
  useTitle();
  const { setColorScheme } = useMantineColorScheme();
  const dark = useComputedColorScheme("light") === "dark";
  const onLight = () => setColorScheme(dark ? "light" : "dark");
  return (
    <AppShell header={{ height: 52 }} footer={{ height: 30 }} padding="md">
      <AppShell.Header className={classes.bar}>
        <Group h="100%" px="md" gap="sm" justify="space-between" wrap="nowrap">
          <NavLink to="/" className={classes.name}>
            <img src="/icon.svg" alt="" width={24} height={24} />
            <span>Yarn Loom</span>
          </NavLink>
          <Pages />
          <nav className={classes.ways} aria-label="Pages">
            {PAGES.map(({ path, label }) => (
              <NavLink key={path} to={path} end={path === "/"} className={classes.way}>
                {label}
              </NavLink>
            ))}
          </nav>
          <Group gap={6} wrap="nowrap">
            <GoTo onLight={onLight} />
            <ActionIcon
              variant="subtle"
              color="gray"
              aria-label={dark ? "Use the light look" : "Use the dark look"}
              onClick={onLight}
            >
              {dark ? <IconSun size={18} /> : <IconMoon size={18} />}
            </ActionIcon>
          </Group>
        </Group>
      </AppShell.Header>
      <AppShell.Main>
        <TokenGate>
          <Live />
          <Outlet />
        </TokenGate>
      </AppShell.Main>
      <AppShell.Footer className={classes.bar}>
        <WhichService />
      </AppShell.Footer>
    </AppShell>
  );
}

/** The ways to all pages, where there is no room for them side by side. */
function Pages() {
  const { pathname } = useLocation();
  const here = PAGES.find(({ path }) => path !== "/" && pathname.startsWith(path)) ?? PAGES[0];
  return (
    <Menu position="bottom-start">
      <Menu.Target>
        <Button
          variant="default"
          size="compact-sm"
          className={classes.menu}
          leftSection={<IconMenu2 size={16} />}
        >
          {here?.label}
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        {PAGES.map(({ path, label }) => (
          <Menu.Item key={path} component={NavLink} to={path}>
            {label}
          </Menu.Item>
        ))}
      </Menu.Dropdown>
    </Menu>
  );
}

/** Keeps every page as things are; says so where it cannot. */
function Live() {
  return (
    <>
      <LinkNote link={useLive()} />
      <UnreadableNote />
    </>
  );
}

/** Opens the palette; it is fetched when it is first wanted, by a click or by its keys. */
function GoTo({ onLight }: { onLight: () => void }) {
  const [wanted, setWanted] = useState(false);
  const open = () => {
    setWanted(true);
    void import("@mantine/spotlight").then(({ spotlight }) => setTimeout(spotlight.open));
  };
  useEffect(() => {
    if (wanted) return undefined; // from then on the palette knows its keys
    const onKey = (event: KeyboardEvent) => {
      const typing = /^(INPUT|TEXTAREA|SELECT)$/.test((event.target as HTMLElement).tagName);
      const asked = (event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k";
      if (!asked && (event.key !== "/" || typing)) return;
      event.preventDefault();
      open();
    };
    document.addEventListener("keydown", onKey);
    return () => document.removeEventListener("keydown", onKey);
  }, [wanted]);
  return (
    <>
      <Tooltip label="Ctrl K, or /">
        <Button
          variant="default"
          size="compact-sm"
          leftSection={<IconSearch size={15} />}
          className={classes.goTo}
          aria-label="Go to…"
          onClick={open}
        >
          <span>Go to…</span>
        </Button>
      </Tooltip>
      {wanted && (
        <Suspense>
          <Palette onLight={onLight} />
        </Suspense>
      )}
    </>
  );
}

/** A piece of an address as it is read; one that is written wrongly stays as it is. */
function decoded(piece: string): string {
  try {
    return decodeURIComponent(piece);
  } catch {
    return piece;
  }
}

/** The page's title says where one is, so that tabs are told apart. */
function useTitle() {
  const { pathname } = useLocation();
  useEffect(() => {
    const [, first = "", ...rest] = pathname.split("/").map(decoded);
    const page = PAGES.find(({ path }) => path === `/${first}`)?.label ?? "";
    if (first === "runs" && rest[0]) return; // a run says itself how far it is
    const where = rest.at(-1) ?? page;
    document.title = where ? `${where} · Yarn Loom` : "Yarn Loom";
  }, [pathname]);
}

function WhichService() {
  const { data } = useService();
  const caller = useCaller().data;
  const signOut = useSignOut();
  return (
    <Group h="100%" px="md" gap="lg" wrap="nowrap" justify="space-between">
      <Text size="xs" c="dimmed" truncate title={data?.data}>
        {data
          ? `Yarn Loom ${data.version} · ${window.location.host} · data in ${data.data}`
          : window.location.host}
      </Text>
      <Group gap="md" wrap="nowrap">
        {caller && (
          <Text size="xs" c="dimmed" truncate title={`may ${caller.may.join(", ")}`}>
            signed in as {caller.name || "this machine’s user"}
          </Text>
        )}
        {caller?.may.includes("admin") && (
          <Anchor component={NavLink} to="/tokens" size="xs" className={classes.api}>
            Tokens
          </Anchor>
        )}
        {caller && currentSession() && (
          <Anchor
            component="button"
            type="button"
            size="xs"
            className={classes.api}
            onClick={() => signOut.mutate()}
          >
            Sign out
          </Anchor>
        )}
        <Anchor href="/api" size="xs" className={classes.api}>
          The API, to try
        </Anchor>
      </Group>
    </Group>
  );
}
