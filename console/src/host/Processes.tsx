import { Link, useParams } from "react-router";
import { stretch } from "../lib/format";
import { useAddress } from "../lib/useAddress";
import { useSpan, withSpan } from "../lib/useSpan";
import { BusyPeople } from "./BusyPeople";
import { BusyProcesses } from "./BusyProcesses";
import { BusyRequests } from "./BusyRequests";
import { BusySessions } from "./BusySessions";
import { KINDS, ORDERS } from "./busy";

/** What a host was busy with over the span: processes, sessions, people, web requests. */
export function Component() {
  const { name = "" } = useParams();
  const [parameters, choose] = useAddress();
  const { span } = useSpan();
  const { kind } = KINDS.find((one) => one.kind === parameters.get("of")) ?? KINDS[0];
  const { by } = ORDERS.find((one) => one.by === parameters.get("by")) ?? ORDERS[0];
  const text = parameters.get("text") ?? "";
  const processes = kind === "process" || kind === "program" || kind === "user";
  const shared = { host: name, span, text };
  return (
    <>
      <h1 className="mb-1 font-semibold text-xl">
        What{" "}
        <Link className="underline" to={withSpan(`/fleet/${encodeURIComponent(name)}`, parameters)}>
          {name}
        </Link>{" "}
        was busy with
      </h1>
      <p className="mb-2 font-dense text-ink-2">{stretch(span.start, span.end)}</p>
      <div className="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
        <fieldset className="flex flex-wrap gap-1 font-dense" aria-label="Of what">
          {KINDS.map((one) => (
            <button
              key={one.kind}
              type="button"
              aria-pressed={one.kind === kind}
              className={`btn btn-sm font-normal ${one.kind === kind ? "btn-active" : "btn-ghost"}`}
              onClick={() => choose({ of: one.kind, text: "", pid: "" }, true)}
            >
              {one.name}
            </button>
          ))}
        </fieldset>
        {processes && (
          <label className="text-ink-2">
            by{" "}
            <select
              aria-label="the busiest by"
              className="grows cursor-pointer border-primary/70 border-b-2 bg-transparent font-semibold text-primary"
              value={by}
              onChange={(e) => choose({ by: e.target.value })}
            >
              {ORDERS.map((one) => (
                <option key={one.by} value={one.by}>
                  {one.name}
                </option>
              ))}
            </select>
          </label>
        )}
        <input
          type="search"
          className="input input-sm w-56"
          aria-label="Only those with this text"
          placeholder="only those with"
          value={text}
          onChange={(e) => choose({ text: e.target.value })}
        />
      </div>
      {processes && <BusyProcesses {...shared} of={kind} by={by} pid={Number(parameters.get("pid")) || undefined} />}
      {(kind === "session" || kind === "statement") && (
        <BusySessions
          {...shared}
          of={kind}
          whoRan={(statement) => choose({ of: "session", text: statement }, true)}
          process={(pid) => choose({ of: "process", pid, text: "" }, true)}
        />
      )}
      {kind === "people" && <BusyPeople {...shared} />}
      {(kind === "path" || kind === "client") && <BusyRequests {...shared} of={kind} />}
    </>
  );
}

export interface Shared {
  host: string;
  span: ReturnType<typeof useSpan>["span"];
  /** Only rows with this text are shown. */
  text: string;
}

/** Whether a row has a text anywhere, in small or capital letters. */
export function has(text: string, ...cells: (string | number | null | undefined)[]): boolean {
  return !text || cells.join(" ").toLowerCase().includes(text.toLowerCase());
}
