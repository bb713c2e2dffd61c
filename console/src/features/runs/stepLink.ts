/** Where a step is shown, as it stands in a page's address: with the parts of its item. */
export function inItem(step: string): Record<string, string> {
  const at = step.slice(0, step.lastIndexOf("]") + 1);
  return at ? { at, step } : { step };
}
