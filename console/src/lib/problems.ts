import type { FieldProblem } from "../api/client";

/** What the service said of a field, under whatever longer name it said it. */
export function problemOf(fields: FieldProblem[], name: string): string | undefined {
  return fields.find((f) => f.field === name || f.field.endsWith(`.${name}`))?.detail;
}
