import { Group, Stack, Table, Text, Title } from "@mantine/core";

import type { Token } from "../../api/types";
import { Empty, ErrorNote } from "../../components/ErrorNotes";
import frame from "../../components/Frame.module.css";
import { FormButton } from "../../components/FormButton";
import { ReasonForm } from "../../components/ReasonForm";
import { useNow } from "../../components/durations";
import { Ago, Until } from "../../components/TimeAgo";
import { useRevokeToken, useTokens } from "../../queries/access";
import { TokenForm } from "./TokenForm";

/** Who may use the service from elsewhere: the tokens, and making and revoking them. */
export function TokensPage() {
  const found = useTokens();
  const tokens = found.data?.tokens ?? [];
  return (
    <Stack gap="md">
      <Group justify="space-between">
        <Title order={1} size="h2">
          Tokens
        </Title>
        {found.isSuccess && (
          <FormButton label="Make a token…" width={360}>
            {(close) => <TokenForm onClose={close} />}
          </FormButton>
        )}
      </Group>
      {found.error && <ErrorNote error={found.error} />}
      {found.isSuccess && !tokens.length && (
        <Empty title="No tokens yet" command="yarnloom token add NAME --may ROLE">
          Your own programs on this machine need none. For those elsewhere, make one:
        </Empty>
      )}
      {tokens.length > 0 && (
        <div className={frame.frame} tabIndex={0} role="region" aria-label="tokens">
          <Table verticalSpacing={9}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>Token</Table.Th>
                <Table.Th>May</Table.Th>
                <Table.Th>Workflows</Table.Th>
                <Table.Th>Made</Table.Th>
                <Table.Th>Ends</Table.Th>
                <Table.Th aria-label="Changes" />
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {tokens.map((token) => (
                <TokenRow key={`${token.name} ${token.made_at}`} token={token} />
              ))}
            </Table.Tbody>
          </Table>
        </div>
      )}
    </Stack>
  );
}

function TokenRow({ token }: { token: Token }) {
  const revoke = useRevokeToken(token.name);
  const now = useNow();
  const ended = token.revoked_at !== null || Date.parse(token.ends_at) <= now;
  return (
    <Table.Tr aria-label={`token ${token.name}`} c={ended ? "dimmed" : undefined}>
      <Table.Td>{token.name}</Table.Td>
      <Table.Td>{token.may.join(", ")}</Table.Td>
      <Table.Td>{token.workflows.join(", ") || "all"}</Table.Td>
      <Table.Td>
        <Text size="sm">
          <Ago at={token.made_at} />
        </Text>
        <Text size="xs" c="dimmed">
          by {token.made_by}
        </Text>
      </Table.Td>
      <Table.Td>
        {token.revoked_at ? (
          <>
            <Text size="sm">
              revoked <Ago at={token.revoked_at} />
            </Text>
            <Text size="xs">by {token.revoked_by}</Text>
          </>
        ) : ended ? (
          "has ended"
        ) : (
          <Until at={token.ends_at} />
        )}
      </Table.Td>
      <Table.Td>
        {!ended && (
          <FormButton label="Revoke…">
            {(close) => (
              <ReasonForm
                words={`This ends ${token.name}, its sessions, streams and waits, at once.`}
                yes="Revoke"
                no="Keep it"
                color="madder"
                mutation={revoke}
                onClose={close}
              />
            )}
          </FormButton>
        )}
      </Table.Td>
    </Table.Tr>
  );
}
