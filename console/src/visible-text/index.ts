/** What the compiler uses where a key comes behind spread props. */

export { createElement } from "react";
