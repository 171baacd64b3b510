import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { moment, plural, unix } from "../lib/format";
import { useSpan } from "../lib/useSpan";
import { useMay } from "../signin/session";
import { Failure, Waiting } from "../ui/Note";
import { Line, Listing } from "./parts";

const FRESH = `plan: gates
about: Gate controllers are collected more often
for: {hosts: 'label.role eq "gate-controller"'}
collect:
  every: 10s
  processes: {every: 1m}
follow:
  - path: /var/log/gate.log
`;

/** A new plan for the hosts that were chosen elsewhere. */
function freshFor(hosts: string | null): string | undefined {
  if (!hosts) return undefined;
  return `plan: chosen\nabout: \nfor:\n  hosts: '${hosts.replaceAll("'", "''")}'\ncollect:\n  every: 10s\n`;
}

export function Component() {
  const may = useMay("operator");
  const { now } = useSpan();
  const [parameters] = useSearchParams();
  const [text, setText] = useState(() => freshFor(parameters.get("hosts")));
  const plans = useQuery({ queryKey: ["plans"], queryFn: () => got(api.GET("/api/v1/plans")) });
  if (plans.isError) return <Failure error={plans.error} />;
  if (!plans.data) return <Waiting what="the plans" />;
  return (
    <>
      <p className="mb-3 max-w-3xl text-ink-2">
        A plan says what to collect where. Plans stack: the further down this list, the more particular, and what it
        says is laid over those above.
      </p>
      <Listing columns={["plan", "for", "hosts", "version", "changed", ""]}>
        {[
          <Line
            key=" "
            cells={["Balise", "all hosts", "", "", "what holds where no plan says otherwise: every 15s, all parts"]}
          />,
          ...plans.data.items.map((p) => (
            <Line
              key={p.name}
              cells={[
                <span key="n" className="font-semibold">
                  {p.name}
                </span>,
                forWhom(p.body),
                String(p.hosts),
                String(p.version),
                `${moment(unix(p.updated_at), now)} by ${p.updated_by}`,
              ]}
              action={
                <button type="button" className="btn btn-ghost btn-xs" onClick={() => setText(p.text)}>
                  {may ? "Change" : "Show"}
                </button>
              }
            />
          )),
        ]}
      </Listing>
      {may && text === undefined && (
        <button type="button" className="btn btn-sm mt-3" onClick={() => setText(FRESH)}>
          New plan
        </button>
      )}
      {text !== undefined && (
        <Editor
          key={text}
          first={text}
          may={may}
          close={() => setText(undefined)}
          names={plans.data.items.map((p) => p.name)}
        />
      )}
    </>
  );
}

function forWhom(body: Record<string, unknown>): string {
  const who = (body.for ?? {}) as { host?: string; hosts?: string; groups?: string[] };
  if (who.host) return `the host ${who.host}`;
  if (who.groups) return `the groups ${who.groups.join(", ")}`;
  return who.hosts ?? "all hosts";
}

/** The text, what is wrong with it by line and column, and what it would change, while it is typed. */
function Editor({ first, may, close, names }: { first: string; may: boolean; close: () => void; names: string[] }) {
  const client = useQueryClient();
  const [text, setText] = useState(first);
  const [asked, setAsked] = useState(first);
  const [error, setError] = useState<unknown>();
  useEffect(() => {
    const timer = setTimeout(() => setAsked(text), 400);
    return () => clearTimeout(timer);
  }, [text]);
  const check = useQuery({
    queryKey: ["plan-check", asked],
    queryFn: () => got(api.POST("/api/v1/plans/check", { body: { text: asked } })),
  });
  const diff = useQuery({
    queryKey: ["plan-diff", asked],
    enabled: check.data?.good === true,
    queryFn: () => got(api.POST("/api/v1/plans/diff", { body: { text: asked } })),
    retry: false,
  });
  const name = check.data?.name ?? "";
  const after = (work: Promise<unknown>) => {
    setError(undefined);
    work
      .then(() => client.invalidateQueries({ queryKey: ["plans"] }))
      .then(close)
      .catch(setError);
  };
  const rows = text.split("\n").length;
  return (
    <section aria-label="A plan's text" className="mt-4 grid grid-cols-2 gap-6">
      <div>
        <textarea
          className="textarea w-full font-mono text-sm leading-5"
          aria-label="The plan, in YAML"
          rows={Math.min(30, Math.max(10, rows + 1))}
          spellCheck={false}
          readOnly={!may}
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <div className="mt-2 flex gap-2">
          {may && (
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={!check.data?.good || text !== asked}
              onClick={() =>
                after(got(api.PUT("/api/v1/plans/{name}", { params: { path: { name } }, body: { text } })))
              }
            >
              Keep the plan
            </button>
          )}
          <button type="button" className="btn btn-ghost btn-sm" onClick={close}>
            Close
          </button>
          {may && names.includes(name) && (
            <button
              type="button"
              className="btn btn-ghost btn-sm"
              onClick={() => {
                if (window.confirm(`Delete the plan ${name}?`))
                  after(got(api.DELETE("/api/v1/plans/{name}", { params: { path: { name } } })));
              }}
            >
              Delete
            </button>
          )}
        </div>
        {error !== undefined && <Failure error={error} />}
      </div>
      <div className="font-dense" role="status">
        {check.data?.problems.map((p) => (
          <p key={`${p.line}:${p.column}:${p.detail}`} className="border-base-300 border-b py-1">
            <span className="font-semibold text-state-warning">
              line {p.line}, column {p.column}
            </span>{" "}
            {p.detail}
          </p>
        ))}
        {check.data?.good && (
          <p className="mb-1 font-semibold">
            For {plural(check.data.hosts, "host")} now
            {diff.data &&
              (diff.data.hosts ? `; keeping it changes ${diff.data.hosts}` : "; keeping it changes nothing")}
          </p>
        )}
        {diff.data && diff.data.items.length > 0 && <Changes diff={diff.data} />}
      </div>
    </section>
  );
}

function Changes({ diff }: { diff: Schemas["PlanDiff"] }) {
  const left = Math.max(0, diff.items.length - 14) + diff.left_out;
  return (
    <Listing columns={["host", "setting", "now", "then"]}>
      {diff.items.slice(0, 14).map((c) => (
        <Line key={`${c.host} ${c.setting}`} cells={[c.host, c.setting, c.before, c.after]} />
      ))}
      {left > 0 ? <Line cells={[`and ${left} more`, "", "", ""]} /> : null}
    </Listing>
  );
}
