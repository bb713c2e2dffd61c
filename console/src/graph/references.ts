/** References, conditions and pools of a plan in a few words, as the command writes them. */

import type { Json, JsonObject } from "../api/types";

const COMPARES: Record<string, string> = { "==": "is", "!=": "is not", in: "is one of" };

/** A reference or condition in a few words. */
export function referenceText(raw: JsonObject): string {
  const { fields, compare, is_null, not, all, any, text, list, object } = raw;
  if (Array.isArray(fields)) {
    const rest = Object.entries(raw).filter(([name]) => name !== "fields");
    return `${referenceText(Object.fromEntries(rest))}'s ${fields.join(".")}`;
  }
  if (Array.isArray(compare)) {
    const [left, operator, right] = compare;
    return `${ofJson(left)} ${COMPARES[String(operator)] ?? String(operator)} ${ofJson(right)}`;
  }
  if (is_null !== undefined) return `${ofJson(is_null)} is null`;
  if (not !== undefined) return `not (${ofJson(not)})`;
  if (Array.isArray(all)) return all.map(ofJson).join(" and ");
  if (Array.isArray(any)) return any.map(ofJson).join(" or ");
  if (text !== undefined) return JSON.stringify(text);
  if (Array.isArray(list)) return `[${list.map(ofJson).join(", ")}]`;
  if (isObject(object)) {
    const parts = Object.entries(object).map(([name, one]) => `${name}: ${ofJson(one)}`);
    return `{${parts.join(", ")}}`;
  }
  return plainText(raw);
}

function plainText(raw: JsonObject): string {
  if ("param" in raw) return `param ${String(raw.param)}`;
  if ("output" in raw) return String(raw.output) + (raw.only ? ", done ones" : "");
  if ("item" in raw) return raw.item === true ? "the item" : `item's ${String(raw.item)}`;
  if ("failures" in raw) return `failures of ${String(raw.failures)}`;
  if ("failure" in raw) return "the failure";
  if ("planned_at" in raw) return "the planned time";
  if ("bad_rows" in raw) return `bad rows of ${String(raw.bad_rows)}`;
  const constant = JSON.stringify(raw.constant ?? null);
  return constant.length > 30 ? `${constant.slice(0, 29)}…` : constant;
}

function ofJson(raw: Json | undefined): string {
  return isObject(raw) ? referenceText(raw) : JSON.stringify(raw ?? null);
}

function isObject(raw: Json | undefined): raw is JsonObject {
  return typeof raw === "object" && raw !== null && !Array.isArray(raw);
}

/** The pools of a step, each with its weight: "2 of oven, gauge-link". */
export function poolsText(rules: JsonObject | undefined): string {
  const uses = rules?.pools ?? (rules?.pool ? [rules] : []);
  return (Array.isArray(uses) ? uses : [])
    .filter(isObject)
    .map(
      ({ pool, weight }) => (Number(weight ?? 1) > 1 ? `${Number(weight)} of ` : "") + String(pool),
    )
    .join(", ");
}
