/** Marks that turn text around, or that nobody sees: with them a name can look like another. */
const HIDDEN = /[\u061c\u200b\u200e\u200f\u202a-\u202e\u2060\u2066-\u2069\ufeff]/g;

/** A text with such marks as escapes. */
export function visibleText(text: string): string {
  return text.replace(
    HIDDEN,
    (mark) => `\\u${(mark.codePointAt(0) ?? 0).toString(16).padStart(4, "0")}`,
  );
}

/** What is rendered, its texts made visible; elements in it were made so themselves. */
export function visibleChildren(children: unknown): unknown {
  if (typeof children === "string") return visibleText(children);
  return Array.isArray(children) ? children.map(visibleChildren) : children;
}
