import {
  createContext,
  type KeyboardEvent,
  type PointerEvent,
  type ReactNode,
  useContext,
  useMemo,
  useState,
} from "react";
import { clock, day, stretch } from "../lib/format";
import { timeTicks } from "../lib/scale";
import { useWidth } from "./useWidth";

/** One time axis, many lanes: names on the left, the axis in the middle, the value at the cursor on the right. */

interface Axis {
  start: number;
  end: number;
  width: number;
  /** Where the cursor stands, unix seconds; undefined when it is not on the lanes. */
  cursor: number | undefined;
  x: (time: number) => number;
}

const Context = createContext<Axis | undefined>(undefined);

export function useAxis(): Axis {
  const axis = useContext(Context);
  if (!axis) throw new Error("a lane stands outside of Lanes");
  return axis;
}

/** On a telephone a lane's name and value stand above its drawing, which has the whole width. */
export const COLUMNS = "grid grid-cols-[minmax(0,1fr)] md:grid-cols-[132px_minmax(0,1fr)_96px]";

export interface LanesProps {
  start: number;
  end: number;
  /** The span that was drawn, if any. */
  drawn?: { start: number; end: number } | undefined;
  onDraw: (start: number, end: number) => void;
  onClear: () => void;
  label: string;
  children: ReactNode;
}

export function Lanes({ start, end, drawn, onDraw, onClear, label, children }: LanesProps) {
  const [middle, width] = useWidth<HTMLDivElement>(800);
  const [cursor, setCursor] = useState<number>();
  const [drag, setDrag] = useState<{ from: number; to: number }>();
  const axis = useMemo<Axis>(
    () => ({ start, end, width, cursor, x: (time) => ((time - start) / (end - start)) * width }),
    [start, end, width, cursor],
  );
  const timeOf = (event: PointerEvent): number => {
    const box = event.currentTarget.getBoundingClientRect();
    const part = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width));
    return start + part * (end - start);
  };
  const down = (event: PointerEvent) => {
    if (event.button !== 0) return;
    event.currentTarget.setPointerCapture(event.pointerId);
    const at = timeOf(event);
    setDrag({ from: at, to: at });
  };
  const move = (event: PointerEvent) => {
    const at = timeOf(event);
    setCursor(at);
    if (drag) setDrag({ from: drag.from, to: at });
  };
  const up = () => {
    if (drag) {
      const wide = Math.abs(axis.x(drag.to) - axis.x(drag.from));
      if (wide > 4) onDraw(Math.min(drag.from, drag.to), Math.max(drag.from, drag.to));
      else if (drawn) onClear();
    }
    setDrag(undefined);
  };
  const key = (event: KeyboardEvent) => {
    const step = (end - start) / (event.ctrlKey ? 20 : 120);
    const turn = event.key === "ArrowLeft" ? -1 : event.key === "ArrowRight" ? 1 : 0;
    if (turn) {
      event.preventDefault();
      const before = cursor ?? (start + end) / 2;
      const at = Math.min(end, Math.max(start, before + turn * step));
      setCursor(at);
      if (event.shiftKey) {
        const anchor = drawn
          ? Math.abs(drawn.start - before) < Math.abs(drawn.end - before)
            ? drawn.end
            : drawn.start
          : before;
        if (anchor !== at) onDraw(Math.min(anchor, at), Math.max(anchor, at));
      }
    } else if (event.key === "Escape") {
      setCursor(undefined);
      onClear();
    }
  };
  const veil = drag ? { start: Math.min(drag.from, drag.to), end: Math.max(drag.from, drag.to) } : drawn;
  const left = veil ? Math.max(0, axis.x(veil.start)) : 0;
  const right = veil ? Math.min(width, axis.x(veil.end)) : 0;
  return (
    <Context value={axis}>
      <div className="relative border-base-300 border-t">
        <div className="hairline">{children}</div>
        <div className={`${COLUMNS} pointer-events-none absolute inset-0`}>
          <div className="hidden md:block" />
          <div
            ref={middle}
            className="pointer-events-auto relative cursor-crosshair touch-pan-y outline-offset-2"
            role="slider"
            aria-label={`${label}. Arrow keys move the cursor, with Shift they draw a span, Escape clears it.`}
            aria-valuemin={start}
            aria-valuemax={end}
            aria-valuenow={Math.round(cursor ?? end)}
            aria-valuetext={
              (cursor === undefined ? "no cursor" : clock(cursor, true)) +
              (drawn ? `, drawn ${stretch(drawn.start, drawn.end)}` : "")
            }
            tabIndex={0}
            onPointerDown={down}
            onPointerMove={move}
            onPointerUp={up}
            onPointerLeave={() => {
              if (!drag) setCursor(undefined);
            }}
            onKeyDown={key}
          >
            {veil && right > left && (
              <div
                className="absolute inset-y-0 border-primary border-x bg-primary/10"
                style={{ left, width: right - left }}
              />
            )}
            {cursor !== undefined && cursor >= start && cursor <= end && (
              <div className="absolute inset-y-0 border-base-content/60 border-l" style={{ left: axis.x(cursor) }} />
            )}
          </div>
        </div>
      </div>
      <AxisTicks axis={axis} />
    </Context>
  );
}

function AxisTicks({ axis }: { axis: Axis }) {
  const ticks = timeTicks(axis.start, axis.end, Math.max(2, Math.floor(axis.width / 110)));
  const long = axis.end - axis.start > 86400 * 1.5;
  const fine = axis.end - axis.start < 600;
  const at = axis.cursor;
  return (
    <div className={`${COLUMNS} border-base-content/60 border-t font-dense text-ink-2 text-xs`}>
      <div className="hidden md:block" />
      <div className="relative h-5" aria-hidden="true">
        {ticks.map((t) => {
          const x = axis.x(t);
          const hidden = at !== undefined && Math.abs(axis.x(at) - x) < 60;
          if (x < 16 || x > axis.width - 16 || hidden) return null;
          return (
            <span key={t} className="-translate-x-1/2 absolute top-0.5 whitespace-nowrap" style={{ left: x }}>
              {long ? `${day(t).slice(0, -4)} ${clock(t)}` : clock(t, fine)}
            </span>
          );
        })}
        {at !== undefined && (
          <span
            className="-translate-x-1/2 absolute top-0.5 whitespace-nowrap font-semibold text-base-content"
            style={{ left: Math.min(axis.width - 30, Math.max(30, axis.x(at))) }}
          >
            {long ? `${day(at)} ` : ""}
            {clock(at, true)}
          </span>
        )}
      </div>
    </div>
  );
}

const LANE = "grid grid-cols-[minmax(0,1fr)_auto] md:grid-cols-[132px_minmax(0,1fr)_96px]";

/** One lane: a name and what it shows, a drawing, and what stands at the cursor. */
export function LaneRow({
  name,
  label = name,
  shows,
  value,
  unit,
  height = 36,
  children,
}: {
  name: string;
  /** What it is called where several have the same name. */
  label?: string;
  shows?: ReactNode;
  value?: string | undefined;
  unit?: string | undefined;
  height?: number;
  children: ReactNode;
}) {
  return (
    <section className={`${LANE} font-dense`} aria-label={label}>
      <div className="flex min-w-0 items-baseline gap-2 py-0.5 pr-2 leading-tight md:block">
        <div className="grow-cell shrink-0 font-semibold text-sm" title={name}>
          {name}
        </div>
        <div className="grow-cell text-ink-2 text-xs" title={typeof shows === "string" ? shows : undefined}>
          {shows}
        </div>
      </div>
      <div className="order-last col-span-2 min-w-0 md:order-none md:col-span-1" style={{ height }}>
        {children}
      </div>
      <div className="flex items-baseline gap-1.5 py-0.5 text-right leading-tight md:block">
        <div className="whitespace-nowrap font-semibold text-sm">{value}</div>
        <div className="whitespace-nowrap text-ink-2 text-xs md:whitespace-normal">{unit}</div>
      </div>
    </section>
  );
}
