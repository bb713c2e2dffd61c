import { Text } from "@mantine/core";

import { ErrorNote } from "../../components/ErrorNotes";
import { Ago } from "../../components/TimeAgo";
import { useCode } from "../../queries/workflows";
import classes from "./StepDrawer.module.css";

interface Props {
  /** Full name of the task. */
  task: string;
  /** Of the version that the attempt ran. */
  hash: string;
  /** Whether the panel that it stands in is open. */
  wanted: boolean;
}

/** The source code that an attempt ran, with its version. */
export function AttemptCode({ task, hash, wanted }: Props) {
  const code = useCode(task, hash, wanted);
  if (code.error) return <ErrorNote error={code.error} />;
  if (!code.data) return null;
  const lines = code.data.source.replace(/\n$/, "").split("\n");
  const current = code.data.code_hash === hash;
  return (
    <>
      <Text size="xs" c="dimmed" mb={4}>
        version {hash.slice(0, 7)}, first seen <Ago at={code.data.seen_at} />
        {current ? ", as it is published now" : "; another version is published now"}
      </Text>
      <pre className={classes.code} tabIndex={0} aria-label={`code of ${task}`}>
        {lines.map((line, index) => (
          <Line key={index} number={index + 1} text={line} />
        ))}
      </pre>
    </>
  );
}

function Line({ number, text }: { number: number; text: string }) {
  return (
    <>
      <span aria-hidden>{number}</span>
      <code>{text || " "}</code>
    </>
  );
}
