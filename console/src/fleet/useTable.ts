import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { api, got, type Schemas } from "../api/client";
import { type Column, columnOf, type Order, orderOf } from "./columns";

const WHOLE = 10_000;

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
    limit: WHOLE,
  };
  return useQuery({
    queryKey: ["table", body],
    queryFn: () => got(api.POST("/api/v1/hosts/table", { body })),
    placeholderData: keepPreviousData,
    refetchInterval: 15_000,
    retry: false,
  });
}
