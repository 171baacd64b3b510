/** Filters as text: adding conditions, and mending a slip. */

/** Text as a string of the filter language. */
export function quoted(text: string): string {
  return JSON.stringify(text);
}

/** A value as the filter language writes it. */
function written(value: unknown): string {
  if (typeof value === "number" || typeof value === "boolean") return String(value);
  return quoted(value === null || value === undefined ? "" : String(value));
}

/** A filter that asks for more: what joins with `or` is kept together. */
export function withCondition(where: string, condition: string): string {
  const held = where.trim();
  if (!held) return condition;
  if (held.split(/\s+and\s+/).includes(condition)) return held;
  const alone = /\bor\b/i.test(held.replace(/"(?:[^"\\]|\\.)*"/g, "")) ? `(${held})` : held;
  return `${alone} and ${condition}`;
}

/** Only what has a value of an attribute, or only what has not. */
export function onlyWith(where: string, attribute: string, value: unknown, has = true): string {
  return withCondition(where, `${attribute} ${has ? "eq" : "ne"} ${written(value)}`);
}

/** Whether a filter can name an attribute. */
export function canBeAsked(attribute: string): boolean {
  return /^[A-Za-z_][\w.:/@-]*$/.test(attribute);
}

/** The text with what stands at a place (characters from 1) replaced by what could. */
export function mended(where: string, at: number, choice: string): string {
  const before = where.slice(0, at - 1);
  const rest = where.slice(at - 1).replace(/^(?:"(?:[^"\\]|\\.)*"?|[()]|[^\s()]+)/, "");
  const gap = before && !/[\s(]$/.test(before) ? " " : "";
  const next = choice === '"text"' ? '""' : choice;
  return `${before}${gap}${next}${rest.startsWith(" ") || !rest ? rest : ` ${rest}`}`;
}

/** What could stand at a place, of which only words can be put there by a click. */
export function isWord(choice: string): boolean {
  return /^[a-z]{2,5}$|^"/.test(choice) || choice === "(" || choice === ")";
}
