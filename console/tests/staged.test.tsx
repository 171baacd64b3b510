import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { renderHook, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { expect, test } from "vitest";
import { useStaged } from "../src/lib/useStaged";

function listOf(total: number) {
  const asked: number[] = [];
  const held: { letGo: () => void } = { letGo: () => undefined };
  const ask = async (limit: number) => {
    asked.push(limit);
    if (limit > 1000) await new Promise<void>((done) => (held.letGo = done));
    const items = Array.from({ length: Math.min(limit, total) }, (_, n) => n);
    return { items, next: limit < total ? String(limit) : null };
  };
  return { ask, asked, held };
}

function rendered(ask: (limit: number) => Promise<{ items: number[]; next: string | null }>) {
  const client = new QueryClient();
  const wrapper = ({ children }: { children: ReactNode }) => (
    <QueryClientProvider client={client}>{children}</QueryClientProvider>
  );
  return renderHook(() => useStaged(["list"], ask, 60_000), { wrapper }).result;
}

test("a short list is asked for once, and is whole", async () => {
  const { ask, asked } = listOf(30);
  const result = rendered(ask);
  expect(result.current).toMatchObject({ data: undefined, whole: false });
  await waitFor(() => expect(result.current.whole).toBe(true));
  expect(result.current.data?.items.length).toBe(30);
  expect(asked).toEqual([60]);
});

test("of a long list the first rows are there before all of them", async () => {
  const { ask, asked, held } = listOf(5000);
  const result = rendered(ask);
  await waitFor(() => expect(result.current.data?.items.length).toBe(60));
  expect(result.current.whole).toBe(false);
  expect(asked).toEqual([60]);
  await waitFor(() => expect(asked).toEqual([60, 10_000]), { timeout: 5000 });
  held.letGo();
  await waitFor(() => expect(result.current.whole).toBe(true));
  expect(result.current.data?.items.length).toBe(5000);
});

test("what fails is told", async () => {
  const result = rendered(() => Promise.reject(new Error("away")));
  await waitFor(() => expect(result.current.isError).toBe(true));
  expect(result.current.whole).toBe(false);
});
