import "@testing-library/jest-dom/vitest";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, describe, expect, it, vi } from "vitest";
import { List } from "../src/availability/Availability";

afterEach(cleanup);

function made(count: number, down: number) {
  return Array.from({ length: count }, (_, n) => ({
    name: `pier-${n}`,
    up: 0.9,
    down: n < down ? 0.1 : 0,
    unknown: 0,
    maintenance: 0,
    outage_count: n < down ? 1 : 0,
    down_seconds: n < down ? 60 * (count - n) : 0,
    target: null,
    ribbon: [],
  }));
}

function shown(count: number, down: number, leftOut: number) {
  render(
    <List
      items={made(count, down)}
      left_out={leftOut}
      of="host"
      span={{ start: 0, end: 3600, from: "-1h", to: "now", live: false }}
      choose={vi.fn()}
    />,
  );
  return screen.getAllByRole("rowheader").length;
}

describe("the availability of many", () => {
  it("shows the worst first, and the others when they are asked for", () => {
    expect(shown(150, 3, 0)).toBe(100);
    expect(screen.getByText(/^3 of 150 hosts were down for a while, pier-0 longest/)).toBeInTheDocument();
    fireEvent.click(screen.getByRole("button", { name: "Show 50 more" }));
    expect(screen.getAllByRole("rowheader")).toHaveLength(150);
    expect(screen.queryByRole("button", { name: /more/ })).toBeNull();
  });
  it("says how many are not listed, and no more of them than is known", () => {
    expect(shown(40, 40, 4000)).toBe(40);
    expect(screen.getByText(/^At least 40 of 4040 hosts were down/)).toBeInTheDocument();
    expect(screen.getByText("4,000 more are not listed: filter for them")).toBeInTheDocument();
    cleanup();
    shown(40, 3, 4000);
    expect(screen.getByText(/^3 of 4040 hosts were down/)).toBeInTheDocument();
  });
});
