import { Button, Card, PasswordInput, Stack, Text } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import { ApiError, post } from "../../api/http";
import { useService } from "../../queries/workflows";

/** Asks for the service's token where one is needed, and shows the console once it fits. */
export function TokenGate({ children }: { children: ReactNode }) {
  const service = useService();
  const { error } = service;
  if (service.isPending) return <Text c="dimmed">Asking the service…</Text>;
  return error instanceof ApiError && error.status === 401 ? (
    <AskToken said={error.message} />
  ) : (
    children
  );
}

function AskToken({ said }: { said: string }) {
  const client = useQueryClient();
  const [token, setToken] = useState("");
  const [problem, setProblem] = useState("");
  const send = async () => {
    try {
      await post("/session", { token });
      await client.resetQueries();
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Card withBorder maw={420} mx="auto" mt="xl" bg="var(--panel)">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void send();
        }}
      >
        <Stack>
          <Text size="sm">{said}</Text>
          <PasswordInput
            label="Token"
            value={token}
            error={problem}
            onChange={(event) => setToken(event.currentTarget.value)}
          />
          <Button type="submit">Go on</Button>
        </Stack>
      </form>
    </Card>
  );
}
