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
  const more = vi.fn();
  render(
    <List
      items={made(count, down)}
      left_out={leftOut}
      down={down}
      of="host"
      span={{ start: 0, end: 3600, from: "-1h", to: "now", live: false }}
      choose={vi.fn()}
      more={more}
    />,
  );
  expect(document.querySelectorAll("th[scope=row]")).toHaveLength(count);
  return more;
}

describe("the availability of many", () => {
  it("shows the worst first, and asks for others when they are wanted", () => {
    const more = shown(100, 3, 50);
    expect(screen.getByText(/^3 of 150 hosts were down for a while, pier-0 longest/)).toBeInTheDocument();
    fireEvent.click(screen.getByRole("button", { name: "Show 50 more" }));
    expect(more).toHaveBeenCalledOnce();
  });
  it("says how many are not listed", () => {
    shown(100, 100, 4000);
    expect(screen.getByText(/^100 of 4100 hosts were down/)).toBeInTheDocument();
    expect(screen.getByRole("button", { name: "Show 900 more" })).toBeInTheDocument();
    expect(screen.getByText("3,100 more are not listed: filter for them")).toBeInTheDocument();
    cleanup();
    shown(40, 3, 0);
    expect(screen.queryByText(/^Show/)).toBeNull();
  });
});
