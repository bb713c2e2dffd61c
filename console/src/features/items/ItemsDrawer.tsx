import { Chip, Group, Stack, Table, Text } from "@mantine/core";
import { IconSearch } from "@tabler/icons-react";
import { useEffect, useState } from "react";

import { exportPath } from "../../api/http";
import type { EachPart, Item, StepState } from "../../api/types";
import { StateBand } from "../../components/StateBand";
import { countsText } from "../../components/counts";
import { NextPageButton } from "../../components/NextPageButton";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import opens from "../../components/FormButton.module.css";
import { TypedInput } from "../../components/TypedInput";
import { SideDrawer } from "../../components/SideDrawer";
import { State } from "../../components/State";
import { Took } from "../../components/TimeAgo";
import { useItems } from "../../queries/runs";
import { HowLong } from "./HowLong";
import classes from "./ItemsDrawer.module.css";
import { DownloadLink } from "../../components/DownloadLink";

const STATES: StepState[] = ["failed", "running", "done", "skipped", "cancelled", "waiting"];

interface Props {
  run: number;
  /** Address of the each; null closes the drawer. */
  address: string | null;
  /** The each with its counts, where it is at hand. */
  each: EachPart | null;
  onClose: () => void;
  /** Called with an item's address when its parts are to be shown. */
  onItem: (address: string) => void;
}

/** The items of an each beside the graph: counts, a filter by state, and a paged list. */
export function ItemsDrawer({ run, address, each, onClose, onItem }: Props) {
  return (
    <SideDrawer
      title={address === null ? null : `${run}/${address}`}
      closeLabel="Close the items"
      onClose={onClose}
    >
      {address !== null && (
        <Items run={run} address={address} each={each} onItem={onItem} key={address} />
      )}
    </SideDrawer>
  );
}

/** So many items that fit a search are shown before it waits to be told to go on. */
const ENOUGH = 20;

interface ItemsProps {
  run: number;
  address: string;
  each: EachPart | null;
  onItem: (address: string) => void;
}

function Items({ run, address, each, onItem }: ItemsProps) {
  const [state, setState] = useState<string | null>(null);
  const [text, setText] = useState("");
  const found = useItems(run, address, state, text);
  const items = found.data?.pages.flatMap((page) => page.items) ?? [];
  // A page is searched some way; the search goes on by itself until something is shown.
  const { hasNextPage, isFetching, fetchNextPage } = found;
  const goesOn = text !== "" && hasNextPage && items.length < ENOUGH;
  useEffect(() => {
    if (goesOn && !isFetching) void fetchNextPage();
  }, [goesOn, isFetching, fetchNextPage]);
  if (found.error) return <ErrorNote error={found.error} />;
  return (
    <Stack gap="sm" data-testid="items">
      {each?.counts && (
        <>
          <Text size="sm">{countsText(each.counts)}</Text>
          <StateBand counts={each.counts} />
          <HowLong each={each} />
        </>
      )}
      <Chip.Group
        value={state ?? "all"}
        onChange={(value) => setState(value === "all" ? null : String(value))}
      >
        <Group gap={6}>
          {["all", ...STATES.filter((one) => one === state || each?.counts?.[one])].map((one) => (
            <Chip key={one} value={one} size="xs">
              {one}
            </Chip>
          ))}
        </Group>
      </Chip.Group>
      <TypedInput
        label="Search items"
        placeholder="name or value"
        width={240}
        icon={<IconSearch size={15} />}
        value={text}
        onSettled={setText}
      />
      <TakeOut run={run} address={address} state={state} />
      {goesOn && (
        <Text size="xs" c="dimmed" role="status">
          searching…
        </Text>
      )}
      {found.data && !items.length && !hasNextPage && <Empty title="No items here" />}
      {items.length > 0 && (
        <Table fz="sm" highlightOnHover verticalSpacing={5} className={classes.items}>
          <Table.Tbody>
            {items.map((item) => (
              <Row key={item.item} item={item} onOpen={() => onItem(item.address)} />
            ))}
          </Table.Tbody>
        </Table>
      )}
      <NextPageButton pages={found} label={text ? "Search more items" : "More items"} />
    </Stack>
  );
}

/** The items that are listed, with what came of them, as a file. */
function TakeOut({ run, address, state }: { run: number; address: string; state: string | null }) {
  const link = (form: string) => exportPath(run, address, form, state);
  return (
    <Text size="xs" c="dimmed">
      Take out{state ? ` those ${state}` : ""}:{" "}
      <DownloadLink path={link("csv")} inherit>
        CSV
      </DownloadLink>{" "}
      ·{" "}
      <DownloadLink path={link("json-lines")} inherit>
        JSON Lines
      </DownloadLink>
    </Text>
  );
}

function Row({ item, onOpen }: { item: Item; onOpen: () => void }) {
  const fault = item.error?.message;
  return (
    <Table.Tr onClick={onOpen} className={opens.row}>
      <Table.Td>
        <button type="button" className={opens.name}>
          {item.name}
        </button>
        {fault && item.state === "failed" && <div className={classes.fault}>{fault}</div>}
      </Table.Td>
      <Table.Td>
        <State state={item.state} />
      </Table.Td>
      <Table.Td className={classes.took}>
        {item.started_at && <Took from={item.started_at} to={item.ended_at ?? null} />}
      </Table.Td>
    </Table.Tr>
  );
}
