import { Accordion, Anchor, Badge, Group, Stack, Table, Text } from "@mantine/core";

import type { Effect, Command, Json, PublishedEntry } from "../../api/types";
import { ErrorNote } from "../../components/ErrorNotes";
import { Ago } from "../../components/TimeAgo";
import { SettleEffect } from "./SettleEffect";
import { useCommands, useLedger, usePublished, useSettle } from "../../queries/actions";

interface Props {
  run: number;
  /** Which panels are open. */
  open: string[];
  onStep: (address: string) => void;
}

/** What a run published, did outside, and was told by whom. */
export function RunRecord({ run, open, onStep }: Props) {
  const published = usePublished(run, true);
  const ledger = useLedger(run, true);
  const commands = useCommands(run, open.includes("commands"));
  const settle = useSettle(run);
  const effects = ledger.data?.effects ?? [];
  return (
    <>
      {(published.data?.published.length ?? 0) > 0 && (
        <Accordion.Item value="published">
          <Accordion.Control>Published</Accordion.Control>
          <Accordion.Panel>
            <PublishedList entries={published.data?.published ?? []} />
          </Accordion.Panel>
        </Accordion.Item>
      )}
      {effects.length > 0 && (
        <Accordion.Item value="ledger">
          <Accordion.Control>
            Done outside: {effects.length}
            {ledger.data?.unsure ? (
              <Badge ml="sm" color="red" variant="light" tt="none">
                {ledger.data.unsure} unsure
              </Badge>
            ) : null}
          </Accordion.Control>
          <Accordion.Panel>
            {settle.error && <ErrorNote error={settle.error} />}
            <EffectTable
              effects={effects}
              onStep={onStep}
              onSettle={(effect, done, value) =>
                settle.mutate({
                  what: effect.what,
                  address: effect.address,
                  done,
                  reason: "",
                  ...(value === undefined ? {} : { value }),
                })
              }
            />
          </Accordion.Panel>
        </Accordion.Item>
      )}
      <Accordion.Item value="commands">
        <Accordion.Control>Who did what</Accordion.Control>
        <Accordion.Panel>
          {commands.error && <ErrorNote error={commands.error} />}
          <CommandTable commands={commands.data?.commands ?? []} onStep={onStep} />
        </Accordion.Panel>
      </Accordion.Item>
    </>
  );
}

function PublishedList({ entries }: { entries: PublishedEntry[] }) {
  return (
    <Stack gap={3} mah={260} style={{ overflow: "auto" }} role="log" aria-label="published">
      {entries.map((entry) => (
        <Text size="sm" key={entry.line}>
          <Text span c="dimmed" size="sm">
            {entry.at.slice(11, 19)} {entry.address.split("/").slice(1).join("/")}{" "}
          </Text>
          {typeof entry.value === "string" ? entry.value : JSON.stringify(entry.value)}
        </Text>
      ))}
    </Stack>
  );
}

const DYES = { done: "done", begun: "running", "not done": "skipped", unsure: "failed" };

type OnSettle = (effect: Effect, done: boolean, value?: Json) => void;

interface EffectTableProps {
  effects: Effect[];
  onStep: (address: string) => void;
  onSettle: OnSettle;
}

function EffectTable({ effects, onStep, onSettle }: EffectTableProps) {
  return (
    <Table fz="sm" verticalSpacing={4}>
      <Table.Thead>
        <Table.Tr>
          <Table.Th>What</Table.Th>
          <Table.Th>Step</Table.Th>
          <Table.Th>State</Table.Th>
          <Table.Th>Begun</Table.Th>
          <Table.Th>Value</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {effects.map((one) => (
          <Table.Tr key={`${one.address}/${one.what}`}>
            <Table.Td>{one.what}</Table.Td>
            <Table.Td>
              {one.address ? (
                <Anchor component="button" size="sm" onClick={() => onStep(one.address)}>
                  {one.address}
                </Anchor>
              ) : (
                "the run"
              )}
            </Table.Td>
            <Table.Td>
              <Group gap="xs">
                <span className="dyed" data-dye={DYES[one.state]}>
                  {one.state}
                </span>
                {(one.state === "unsure" || (one.by && !one.used_at)) && (
                  <SettleEffect effect={one} onSettle={onSettle} />
                )}
              </Group>
            </Table.Td>
            <Table.Td>
              <Ago at={one.begun_at} />
            </Table.Td>
            <Table.Td>
              <Text size="sm" c="dimmed" lineClamp={1}>
                {one.value === null ? "" : JSON.stringify(one.value)}
              </Text>
            </Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}

interface CommandTableProps {
  commands: Command[];
  onStep: (address: string) => void;
}

function CommandTable({ commands, onStep }: CommandTableProps) {
  return (
    <Table fz="sm" verticalSpacing={4}>
      <Table.Thead>
        <Table.Tr>
          <Table.Th>When</Table.Th>
          <Table.Th>Who</Table.Th>
          <Table.Th>What</Table.Th>
          <Table.Th>Step</Table.Th>
          <Table.Th>Reason</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {commands.map((one, index) => {
          const step = typeof one.detail.step === "string" ? one.detail.step : "";
          return (
            <Table.Tr key={`${one.at}-${index}`}>
              <Table.Td>
                <Ago at={one.at} />
              </Table.Td>
              <Table.Td>{one.who}</Table.Td>
              <Table.Td>{one.what.replace("_", " ")}</Table.Td>
              <Table.Td>
                {step && (
                  <Anchor component="button" size="sm" onClick={() => onStep(step)}>
                    {step}
                  </Anchor>
                )}
              </Table.Td>
              <Table.Td>{one.reason}</Table.Td>
            </Table.Tr>
          );
        })}
      </Table.Tbody>
    </Table>
  );
}
