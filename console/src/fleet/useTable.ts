import { useMemo } from "react";
import { api, got, type Schemas } from "../api/client";
import { useStaged } from "../lib/useStaged";
import { type Column, columnOf, type Order, orderOf } from "./columns";

/** The columns of the table that the service works out, in the order in which they are shown. */
export function useColumnsOf(keys: string[]): Column[] {
  const text = keys.join("\n");
  return useMemo(() => text.split("\n").flatMap((key) => columnOf(key) ?? []), [text]);
}

/** The fleet in order, with the values of its columns; and what they are together in each group. */
export function useTable(asked: { where: string; columns: Column[]; order: Order; groupBy: string; lines: boolean }) {
  const { extra, sort } = orderOf(asked.order, asked.columns);
  const body = {
    columns: [...asked.columns.map((one) => one.ask), ...extra] as Schemas["TableColumn"][],
    where: asked.where || null,
    group_by: asked.groupBy || null,
    sort,
    lines: asked.lines,
  };
  return useStaged(
    ["table", body],
    (limit) => got(api.POST("/api/v1/hosts/table", { body: { ...body, limit } })),
    15_000,
  );
}
