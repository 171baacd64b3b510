import { useMemo } from "react";
import { askTable } from "../lib/asks";
import { useStaged } from "../lib/useStaged";
import { type Column, columnsOf, type TableAsked, tableBody } from "./columns";

/** The columns of the table that the service works out, in the order in which they are shown. */
export function useColumnsOf(keys: string[]): Column[] {
  const text = keys.join("\n");
  return useMemo(() => columnsOf(text.split("\n")), [text]);
}

/** The fleet in order, with the values of its columns; and what they are together in each group. */
export function useTable(asked: TableAsked) {
  const body = tableBody(asked);
  return useStaged(["table", body], (limit) => askTable({ ...body, limit }), 15_000);
}
