/** The same for the development server. */

import { Fragment, jsx, jsxs, type JSX } from "./jsx-runtime";

export type { JSX };
export { Fragment };

export function jsxDEV(type: never, props: never, key: never, many: boolean): unknown {
  return many ? jsxs(type, props, key) : jsx(type, props, key);
}
