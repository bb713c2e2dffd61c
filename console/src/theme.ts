import { createTheme, type MantineColorsTuple } from "@mantine/core";

const indigo: MantineColorsTuple = [
  "#eef1fb",
  "#d9e0f4",
  "#b2c0e9",
  "#889ddd",
  "#6680d3",
  "#4f6dce",
  "#3d58b4",
  "#34509f",
  "#2b468d",
  "#1d397b",
];

export const theme = createTheme({
  primaryColor: "indigo",
  colors: { indigo },
  fontFamily: "'Inter Variable', system-ui, sans-serif",
  fontFamilyMonospace: "'JetBrains Mono Variable', ui-monospace, monospace",
  defaultRadius: "md",
  cursorType: "pointer",
  respectReducedMotion: true,
  components: { Anchor: { defaultProps: { underline: "always" } } },
});
