import { Button, Card, Code, PasswordInput, Stack, Text, Title } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";

import { ApiError } from "../../api/http";
import { currentSession, forgetSession, signIn, signInProblem } from "../../api/session";
import { useService } from "../../queries/workflows";

/** Shows the console to who is signed in, and a page to sign in to everybody else. */
export function TokenGate({ children }: { children: ReactNode }) {
  const service = useService();
  const { error } = service;
  if (service.isPending) return <Text c="dimmed">Asking the service…</Text>;
  return error instanceof ApiError && error.status === 401 ? <SignIn /> : children;
}

function SignIn() {
  const client = useQueryClient();
  const [token, setToken] = useState("");
  const [problem, setProblem] = useState("");
  const [ended] = useState(() => currentSession() !== "");
  const send = async () => {
    const found = await signIn({ token: token.trim() });
    setProblem(found);
    if (!found) await client.resetQueries();
  };
  const said = signInProblem() || (ended ? "Your session has ended." : "");
  return (
    <Card withBorder maw={460} mx="auto" mt="xl" p="lg" bg="var(--panel)">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          forgetSession();
          void send();
        }}
      >
        <Stack gap="sm">
          <Title order={1} size="h4">
            Sign in
          </Title>
          {said && (
            <Text size="sm" role="alert">
              {said}
            </Text>
          )}
          <Text size="sm">
            On the service’s machine, type <Code>yarnloom open</Code> and open the address that it
            prints. It signs you in, once.
          </Text>
          <PasswordInput
            label="Or give a token"
            description="The owner of the service makes one with yarnloom token add"
            value={token}
            error={problem}
            autoComplete="off"
            onChange={(event) => setToken(event.currentTarget.value)}
          />
          <Button type="submit" disabled={!token.trim()}>
            Sign in
          </Button>
        </Stack>
      </form>
    </Card>
  );
}
