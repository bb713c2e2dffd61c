import { Code } from "@mantine/core";

import { filesIn } from "../../api/files";
import type { Json } from "../../api/types";
import { FileChips } from "../files/FileChips";

const LONGEST = 20_000;

/** A JSON value, indented; a long one is cut, and says so. */
export function Value({ value, label }: { value: Json; label: string }) {
  const text = typeof value === "string" ? value : JSON.stringify(value, null, 1);
  const shown =
    text.length > LONGEST
      ? `${text.slice(0, LONGEST)}\n… ${(text.length - LONGEST).toLocaleString()} more characters`
      : text;
  return (
    <>
      <FileChips files={filesIn(value)} />
      <Code
        block
        mah={260}
        bg="var(--ground)"
        c="var(--ink)"
        style={{ overflow: "auto" }}
        tabIndex={0}
        aria-label={label}
      >
        {shown}
      </Code>
    </>
  );
}
