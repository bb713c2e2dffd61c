import { Accordion } from "@mantine/core";

import type { Json } from "../../api/types";
import { Value } from "./Value";

interface Props {
  /** The heading that opens it, and the value's name in an accordion. */
  title: string;
  value: Json;
}

/** A JSON value behind its heading, in an accordion. */
export function FoldedValue({ title, value }: Props) {
  const name = title.toLowerCase();
  return (
    <Accordion.Item value={name}>
      <Accordion.Control>{title}</Accordion.Control>
      <Accordion.Panel>
        <Value value={value} label={name} />
      </Accordion.Panel>
    </Accordion.Item>
  );
}
