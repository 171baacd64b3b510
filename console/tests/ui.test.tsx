import "@testing-library/jest-dom/vitest";
import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import { afterEach, beforeAll, describe, expect, it, vi } from "vitest";
import type { MetricAnswer, State } from "../src/api/client";
import { Lanes } from "../src/ui/Lanes";
import { MetricLane } from "../src/ui/MetricLane";
import { Failure, Waiting } from "../src/ui/Note";
import { Proportion, Ribbon } from "../src/ui/Ribbon";
import { Signal } from "../src/ui/Signal";

beforeAll(() => {
  vi.stubGlobal(
    "ResizeObserver",
    class {
      observe() {}
      disconnect() {}
    },
  );
});
afterEach(cleanup);

describe("the signal glyph", () => {
  it("is drawn differently for every state, and says its word", () => {
    const states: State[] = ["ok", "warning", "critical", "silent", "paused"];
    const drawings = states.map((state) => {
      const { container } = render(<Signal state={state} />);
      expect(screen.getByRole("img", { name: state })).toBeInTheDocument();
      const shape = container.innerHTML.replace(/var\(--state-\w+\)|aria-label="\w+"|<title>\w+<\/title>/g, "");
      cleanup();
      return shape;
    });
    expect(new Set(drawings).size).toBe(5);
  });
});

const answer: MetricAnswer = {
  metric: "m",
  unit: "1",
  step_seconds: 10,
  times: [0, 10, 20],
  series: [{ attributes: {}, values: [0.1, 0.2, 0.3] }],
  tier: "raw",
  left_out: 0,
  problem: "",
  note: "",
};

describe("a lane", () => {
  it("shows the newest value with its unit, and says so to a screen reader", () => {
    render(
      <Lanes start={0} end={30} onDraw={() => undefined} onClear={() => undefined} label="x">
        <MetricLane name="CPU" answer={answer} bounds={[{ value: 0.25, severity: "warning" }]} />
      </Lanes>,
    );
    expect(screen.getByText("30")).toBeInTheDocument();
    expect(screen.getByRole("img", { name: "CPU: 30 %" }).querySelectorAll("line")).toHaveLength(1);
  });
  it("says when nothing was heard", () => {
    render(
      <Lanes start={0} end={30} onDraw={() => undefined} onClear={() => undefined} label="x">
        <MetricLane name="CPU" answer={{ ...answer, series: [] }} />
      </Lanes>,
    );
    expect(screen.getByText("nothing was heard in this span")).toBeInTheDocument();
  });
  it("draws a span with the keyboard and clears it with Escape", () => {
    const draw = vi.fn();
    const clear = vi.fn();
    render(
      <Lanes start={0} end={1200} onDraw={draw} onClear={clear} label="x">
        <MetricLane name="CPU" answer={answer} />
      </Lanes>,
    );
    const slider = screen.getByRole("slider");
    fireEvent.keyDown(slider, { key: "ArrowRight" });
    fireEvent.keyDown(slider, { key: "ArrowRight", shiftKey: true });
    expect(draw).toHaveBeenCalledWith(610, 620);
    fireEvent.keyDown(slider, { key: "Escape" });
    expect(clear).toHaveBeenCalled();
  });
});

describe("ribbons", () => {
  it("stand taller for what is worse", () => {
    const changes = [
      { at: 0, state: "ok" as const },
      { at: 10, state: "warning" as const },
      { at: 20, state: "critical" as const },
      { at: 30, state: "silent" as const },
    ];
    const { container } = render(<Ribbon changes={changes} start={0} end={40} />);
    const [ok, warning, critical, silent] = [...container.querySelectorAll("rect")].map((r) =>
      Number(r.getAttribute("height")),
    );
    expect(critical).toBeGreaterThan(warning as number);
    expect(warning).toBeGreaterThan(ok as number);
    expect(ok).toBeGreaterThan(silent as number);
  });
  it("say in words what they show", () => {
    render(<Proportion states={{ ok: 3, critical: 1 }} total={4} />);
    expect(screen.getByRole("img", { name: "1 critical, 3 ok" })).toBeInTheDocument();
  });
});

describe("notes", () => {
  it("say what is waited for once it takes long", () => {
    vi.useFakeTimers();
    render(<Waiting what="the hosts" />);
    expect(screen.queryByText(/Waiting for/)).toBeNull();
    vi.advanceTimersByTime(2100);
    vi.useRealTimers();
  });
  it("offer to try again", () => {
    const again = vi.fn();
    render(<Failure error={new Error("The console is away.")} again={again} />);
    fireEvent.click(screen.getByRole("button", { name: "Try again" }));
    expect(again).toHaveBeenCalled();
    expect(screen.getByRole("alert")).toHaveTextContent("The console is away.");
  });
});
