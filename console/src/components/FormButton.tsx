import { Button, Popover } from "@mantine/core";
import { useState, type ReactNode } from "react";

interface Props {
  label: string;
  icon?: ReactNode;
  size?: "xs" | "sm";
  width?: number;
  /** The form; it is given what closes it. */
  children: (close: () => void) => ReactNode;
}

/** A button that opens a small form. */
export function FormButton({ label, icon, size = "xs", width = 300, children }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Popover
      opened={open}
      onChange={setOpen}
      position="bottom-end"
      width={width}
      trapFocus
      withArrow
    >
      <Popover.Target>
        <Button
          variant="default"
          size={size}
          leftSection={icon}
          onClick={() => setOpen((before) => !before)}
        >
          {label}
        </Button>
      </Popover.Target>
      <Popover.Dropdown>{open && children(() => setOpen(false))}</Popover.Dropdown>
    </Popover>
  );
}
