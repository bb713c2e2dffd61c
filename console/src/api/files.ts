/** Files: what stands for them in values, and how they go up. Knows no React. */

import { ApiError } from "./http";
import { sessionHeaders } from "./session";
import type { Json } from "./types";

const BASE = "/api/v1/files";

/** What stands for a file in a value, or for rows of one. */
export interface FileRef {
  sha256: string;
  name: string;
  media_type: string;
  size: number;
  delimiter?: string;
  encoding?: string;
  decimal?: string;
  bad?: string;
  at_most_bad?: string;
  count?: number;
}

/** A file or list that a value names, with what it is called there. */
export interface Named {
  sha256: string;
  name: string;
  size: number;
  /** Of a list how many values it has. */
  count: number | null;
}

/** The address of a file's bytes. */
export function fileUrl(sha256: string, name?: string): string {
  return `${BASE}/${sha256}${name ? `?${new URLSearchParams({ name })}` : ""}`;
}

/** Every file and list that a value names, each once, in order. */
export function filesIn(value: Json): Named[] {
  const found = new Map<string, Named>();
  gather(value, "", found);
  return [...found.values()];
}

function gather(value: Json, at: string, found: Map<string, Named>): void {
  if (Array.isArray(value)) {
    value.forEach((one, index) => gather(one, `${at}[${index}]`, found));
    return;
  }
  if (value === null || typeof value !== "object") return;
  const { sha256, list, size, count, name } = value;
  const rows = typeof count === "number" ? count : null;
  if (typeof sha256 === "string" && typeof name === "string" && typeof size === "number") {
    found.set(sha256, { sha256, name, size, count: rows });
  } else if (typeof list === "string" && typeof size === "number" && rows !== null) {
    found.set(list, { sha256: list, name: `${at || "list"}.jsonl`, size, count: rows });
  } else {
    for (const [key, one] of Object.entries(value)) gather(one, at ? `${at}.${key}` : key, found);
  }
}

/** Keep a file; `onProgress` is told which share of it has gone. */
export function upload(file: File, onProgress: (share: number) => void): Promise<FileRef> {
  return new Promise((resolve, reject) => {
    // Not fetch, which does not tell how far an upload is.
    const request = new XMLHttpRequest();
    const query = new URLSearchParams({ name: file.name.slice(0, 200), media_type: typeOf(file) });
    request.open("POST", `${BASE}?${query}`);
    request.setRequestHeader("Yarnloom-Who", "console");
    for (const [name, value] of Object.entries(sessionHeaders())) {
      request.setRequestHeader(name, value);
    }
    request.upload.onprogress = (event) => {
      if (event.lengthComputable) onProgress(event.loaded / event.total);
    };
    request.onerror = () =>
      reject(new ApiError(0, "not-reachable", "The service does not answer. Is it running?"));
    request.onload = () => {
      const answer = parsed(request.responseText);
      if (request.status === 201) resolve(answer as unknown as FileRef);
      else reject(new ApiError(request.status, "refused", detailOf(answer), []));
    };
    request.send(file);
  });
}

/** The type that the browser knows, unless it is one that says nothing. */
function typeOf(file: File): string {
  // A spreadsheet program on the viewer's machine makes its own of CSV.
  return file.name.toLowerCase().endsWith(".csv") ? "text/csv" : file.type;
}

function parsed(text: string): { detail?: string } {
  try {
    return JSON.parse(text) as { detail?: string };
  } catch {
    return {};
  }
}

function detailOf(answer: { detail?: string }): string {
  return answer.detail ?? "The file was not kept.";
}

/** A size as people write it. */
export function sizeText(bytes: number): string {
  const units = ["bytes", "KB", "MB", "GB", "TB"];
  let [size, unit] = [bytes, 0];
  while (size >= 1024 && unit < units.length - 1) {
    size /= 1024;
    unit += 1;
  }
  const shown = unit === 0 || size >= 100 ? Math.round(size) : Number(size.toFixed(1));
  return `${shown.toLocaleString("en")} ${units[unit]}`;
}
