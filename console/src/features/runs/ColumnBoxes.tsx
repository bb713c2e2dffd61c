import { Button, Checkbox, Stack } from "@mantine/core";

interface Props {
  labels: string[];
  shown: string[];
  usual: string[];
  onChange: (shown: string[]) => void;
}

/** A box for each column, and the way back to the usual ones. */
export default function ColumnBoxes({ labels, shown, usual, onChange }: Props) {
  return (
    <Checkbox.Group aria-label="Columns" value={shown} onChange={onChange}>
      <Stack gap={7}>
        {labels.map((label) => (
          <Checkbox key={label} size="xs" value={label} label={label} />
        ))}
        <Button variant="default" size="compact-xs" onClick={() => onChange(usual)}>
          As usual
        </Button>
      </Stack>
    </Checkbox.Group>
  );
}
