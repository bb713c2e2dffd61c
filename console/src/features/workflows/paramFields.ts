/** From a JSON Schema of flat params to the fields of a form, and from the form to params. */

import type { Json, Schema } from "../../api/types";

export type FieldKind =
  "text" | "integer" | "number" | "boolean" | "choice" | "file" | "rows" | "json";

export interface Field {
  name: string;
  label: string;
  help: string;
  kind: FieldKind;
  required: boolean;
  /** Whether null is a value that it may have. */
  nullable: boolean;
  choices: string[];
  initial: string;
}

/** One field for each param. */
export function fieldsOf(params: Schema): Field[] {
  const required = new Set(params.required ?? []);
  return Object.entries(params.properties ?? {}).map(([name, given]) => {
    const { schema, nullable } = plain(given, params);
    const kind = kindOf(schema);
    return {
      name,
      label: name,
      help: given.description ?? schema.description ?? "",
      kind,
      required: required.has(name),
      nullable,
      choices: (schema.enum ?? []).map(String),
      initial: given.default == null ? "" : textOf(given.default, kind),
    };
  });
}

/** The params that filled fields stand for; an empty field is left out, and so may be missed. */
export function paramsOf(fields: Field[], filled: Record<string, string>): Record<string, Json> {
  const params: Record<string, Json> = {};
  for (const field of fields) {
    const text = filled[field.name] ?? "";
    if (text !== "") params[field.name] = read(text, field.kind);
  }
  return params;
}

/** What fields hold for params that are there; else what they begin with. */
export function filledWith(fields: Field[], params: Record<string, Json>): Record<string, string> {
  return Object.fromEntries(
    fields.map(({ name, kind, initial }) => {
      const value = params[name];
      return [name, value === undefined || value === null ? initial : textOf(value, kind)];
    }),
  );
}

/** A start key: one for as long as a form is open makes a double click, or a retry, one run. */
export function newKey(): string {
  return [...crypto.getRandomValues(new Uint8Array(12))]
    .map((byte) => byte.toString(16).padStart(2, "0"))
    .join("");
}

/** A time as a field has it, by the viewer's clock; empty is none. */
export function momentOf(text: string): string | null {
  return text ? new Date(text).toISOString() : null;
}

function read(text: string, kind: FieldKind): Json {
  if (kind === "text" || kind === "choice") return text;
  try {
    return JSON.parse(text) as Json;
  } catch {
    return text; // the service says what it expected
  }
}

function textOf(value: Json, kind: FieldKind): string {
  return kind === "text" || kind === "choice" ? String(value) : JSON.stringify(value);
}

function plain(schema: Schema, root: Schema): { schema: Schema; nullable: boolean } {
  const followed = follow(schema, root);
  const options = (followed.anyOf ?? []).map((one) => follow(one, root));
  const other = options.filter((one) => one.type !== "null");
  const only = other[0];
  return options.length === 2 && other.length === 1 && only
    ? { schema: only, nullable: true }
    : { schema: followed, nullable: false };
}

function follow(schema: Schema, root: Schema): Schema {
  const name = schema.$ref?.replace("#/$defs/", "");
  return (name && root.$defs?.[name]) || schema;
}

function kindOf(schema: Schema): FieldKind {
  if (schema.format === "yarnloom-file") return "file";
  if (schema.format === "yarnloom-rows") return "rows";
  if (schema.enum?.every((one) => typeof one === "string")) return "choice";
  switch (schema.type) {
    case "string":
      return "text";
    case "integer":
    case "number":
    case "boolean":
      return schema.type;
    default:
      return "json";
  }
}

/** The page of a workflow. */
export function pathOf(workflow: string): string {
  return `/workflows/${workflow.split("/").map(encodeURIComponent).join("/")}`;
}
