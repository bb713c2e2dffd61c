/**
 * What the compiler makes of every element: as React's own, but marks that turn text around are
 * shown as escapes. So no page can forget it, whoever wrote the text.
 */

import { Fragment, jsx as reactJsx, jsxs as reactJsxs } from "react/jsx-runtime";

import { visibleChildren, visibleText } from "./visibleText";

export type { JSX } from "react";
export { Fragment };

type Make = typeof reactJsx;
type Props = { children?: unknown; title?: unknown };

function shown(props: unknown): unknown {
  const { children, title } = props as Props;
  const text = visibleChildren(children);
  const words = typeof title === "string" ? visibleText(title) : title;
  if (text === children && words === title) return props;
  return { ...(props as Props), children: text, title: words };
}

export const jsx: Make = (type, props, key) => reactJsx(type, shown(props), key);
export const jsxs: Make = (type, props, key) => reactJsxs(type, shown(props), key);
