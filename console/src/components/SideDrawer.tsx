import { Drawer, Text } from "@mantine/core";

import classes from "./SideDrawer.module.css";

interface Props {
  /** What is written at its top; null closes it. */
  title: string | null;
  /** What the button that closes it says. */
  closeLabel: string;
  onClose: () => void;
  children: React.ReactNode;
}

/** A drawer beside the graph, which stays in reach. */
export function SideDrawer({ title, closeLabel, onClose, children }: Props) {
  return (
    <Drawer
      opened={title !== null}
      onClose={onClose}
      position="right"
      size="var(--drawer-width)"
      withOverlay={false}
      lockScroll={false}
      trapFocus={false}
      title={<Text fw={650}>{title}</Text>}
      closeButtonProps={{ "aria-label": closeLabel }}
      classNames={{ content: classes.content, header: classes.header }}
    >
      {children}
    </Drawer>
  );
}
