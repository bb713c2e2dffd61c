import { Anchor, type AnchorProps } from "@mantine/core";
import { useState, type ReactNode } from "react";

import { withCode } from "../api/session";

interface Props extends AnchorProps {
  path: string;
  name?: string;
  children: ReactNode;
}

/** A link that downloads: the browser itself sends no session, so it gets a code for once. */
export function DownloadLink({ path, name, children, ...more }: Props) {
  const [problem, setProblem] = useState("");
  const open = async () => {
    try {
      const link = document.createElement("a");
      link.href = await withCode(path);
      link.download = name ?? "";
      link.click();
      setProblem("");
    } catch (error) {
      setProblem(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Anchor
      {...more}
      href={path}
      title={problem || undefined}
      onClick={(event) => {
        event.preventDefault();
        void open();
      }}
    >
      {children}
      {problem && " (refused)"}
    </Anchor>
  );
}
