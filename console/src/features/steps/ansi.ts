/** Text with ANSI colours, as pieces with the dye that is nearest. */

import Anser from "anser";

export interface Piece {
  text: string;
  /** One of our dyes, so that colours have contrast in light and dark; empty for none. */
  dye: string;
  strong: boolean;
  faint: boolean;
}

const DYES: Record<string, string> = {
  red: "failed",
  green: "done",
  yellow: "backing_off",
  blue: "running",
  magenta: "paused",
  cyan: "resting",
  black: "waiting",
  white: "",
};

/** The pieces of a line. */
export function piecesOf(text: string): Piece[] {
  if (!text.includes("\u001b")) return [plain(text)];
  return Anser.ansiToJson(text, { use_classes: true, remove_empty: true }).map((one) => ({
    text: one.content,
    dye: DYES[(one.fg ?? "").replace("ansi-", "").replace("bright-", "")] ?? "",
    strong: one.decorations.includes("bold"),
    faint: one.decorations.includes("dim"),
  }));
}

function plain(text: string): Piece {
  return { text, dye: "", strong: false, faint: false };
}
