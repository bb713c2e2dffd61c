import { TextInput } from "@mantine/core";
import { useEffect, useRef, useState, type ReactNode } from "react";

interface Props {
  label: string;
  placeholder: string;
  value: string;
  icon?: ReactNode;
  width?: number;
  /** Called when nothing was typed for a moment, or Enter was pressed. */
  onSettled: (value: string) => void;
}

const PAUSE = 350;

/** A text that is taken when whoever types has stopped for a moment. */
export function TypedInput({ label, placeholder, value, icon, width = 150, onSettled }: Props) {
  const [text, setText] = useState(value);
  const [shown, setShown] = useState(value);
  const timer = useRef(0);
  // The address may change by other means; what is being typed stays.
  if (value !== shown) {
    setShown(value);
    setText(value);
  }
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const settle = (wanted: string, wait: number) => {
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => onSettled(wanted.trim()), wait);
  };
  return (
    <TextInput
      aria-label={label}
      placeholder={placeholder}
      leftSection={icon}
      w={width}
      value={text}
      onChange={(event) => {
        setText(event.currentTarget.value);
        settle(event.currentTarget.value, PAUSE);
      }}
      onKeyDown={(event) => {
        if (event.key === "Enter") settle(event.currentTarget.value, 0);
      }}
    />
  );
}
