import { useRef, useState } from "react";
import { stretch } from "../lib/format";
import { fixedSpan, PRESETS, stepSpan } from "../lib/span";
import { useSpan } from "../lib/useSpan";

function local(unixSeconds: number): string {
  const d = new Date(unixSeconds * 1000);
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}

/** The span: arrows to step, presets, and a calendar. */
export function SpanPicker() {
  const { span, now, setSpan } = useSpan();
  const [ends, setEnds] = useState({ start: "", end: "" });
  const [wrong, setWrong] = useState("");
  const dialog = useRef<HTMLDialogElement>(null);
  const open = () => {
    setEnds({ start: local(span.start), end: local(span.end) });
    setWrong("");
    dialog.current?.showModal();
  };
  const keep = () => {
    const start = Date.parse(ends.start) / 1000;
    const end = Date.parse(ends.end) / 1000;
    if (!(end > start)) {
      setWrong("The span ends before it begins: choose a later end.");
      return;
    }
    setSpan(fixedSpan(start, end));
    dialog.current?.close();
  };
  return (
    <fieldset className="flex items-center" aria-label="Span">
      <div className="join w-full font-dense md:w-auto">
        <button
          type="button"
          className="btn btn-sm join-item"
          aria-label="Earlier"
          onClick={() => setSpan(stepSpan(span, -1, now))}
        >
          ◂
        </button>
        {PRESETS.map((preset) => {
          const chosen = span.live && span.from === preset.from;
          return (
            <button
              key={preset.from}
              type="button"
              aria-pressed={chosen}
              className={`btn btn-sm join-item max-md:hidden ${chosen ? "btn-primary" : ""}`}
              onClick={() => setSpan({ from: preset.from, to: "now" })}
            >
              {preset.name}
            </button>
          );
        })}
        <button
          type="button"
          className="btn btn-sm join-item min-w-0 grow font-semibold"
          onClick={open}
          title="Choose both ends"
        >
          <span className="grow-cell">{stretch(span.start, span.end)}</span>
        </button>
        <button
          type="button"
          className="btn btn-sm join-item"
          aria-label="Later"
          disabled={span.live}
          onClick={() => setSpan(stepSpan(span, 1, now))}
        >
          ▸
        </button>
      </div>
      <dialog ref={dialog} className="modal" aria-label="Choose both ends of the span">
        <div className="modal-box w-96">
          <div className="mb-3 flex flex-wrap gap-2 md:hidden">
            {PRESETS.map((preset) => (
              <button
                key={preset.from}
                type="button"
                className={`btn ${span.live && span.from === preset.from ? "btn-primary" : ""}`}
                onClick={() => {
                  setSpan({ from: preset.from, to: "now" });
                  dialog.current?.close();
                }}
              >
                {preset.name}
              </button>
            ))}
          </div>
          <label className="mb-3 flex items-center justify-between gap-3">
            From
            <input
              type="datetime-local"
              className="input input-sm"
              value={ends.start}
              onChange={(e) => setEnds({ ...ends, start: e.target.value })}
            />
          </label>
          <label className="flex items-center justify-between gap-3">
            To
            <input
              type="datetime-local"
              className="input input-sm"
              value={ends.end}
              onChange={(e) => setEnds({ ...ends, end: e.target.value })}
            />
          </label>
          {wrong && (
            <p role="alert" className="mt-2 text-error">
              {wrong}
            </p>
          )}
          <div className="modal-action">
            <button type="button" className="btn btn-sm" onClick={() => dialog.current?.close()}>
              Cancel
            </button>
            <button type="button" className="btn btn-sm btn-primary" onClick={keep}>
              Show this span
            </button>
          </div>
        </div>
      </dialog>
    </fieldset>
  );
}
