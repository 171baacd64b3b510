import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { quoted } from "../lib/filterText";
import { moment, plural, unix, withUnit } from "../lib/format";
import { Empty } from "../ui/Note";
import { Bar, BusyRow, BusyTable, type Heading, NotYet, useBusy } from "./BusyTable";
import { has, type Shared } from "./Processes";

/** Web requests of the host's access logs, by path or by client: those that took the most time first. */
export function BusyRequests({ host, span, text, of }: Shared & { of: "path" | "client" }) {
  const answer = useBusy("requests", host, of, span, (asked) =>
    got(
      api.GET("/api/v1/hosts/{name}/requests", {
        params: { path: { name: host }, query: { ...asked, of } },
      }),
    ),
  );
  if (answer.isError || !answer.data) return <NotYet answer={answer} what={`the requests of ${host}`} />;
  const { items, looked, left_out } = answer.data;
  if (!items.length)
    return (
      <Empty title="No access log told of a request in this span.">
        Follow the access log of a web server, and requests are told here by their path.
      </Empty>
    );
  const shown = items.filter((one) => has(text, one.of));
  const timed = items.some((one) => one.seconds !== null);
  const most = Math.max(...items.map((one) => (timed ? (one.seconds ?? 0) : one.requests)), 1e-9);
  const headings: Heading[] = [
    { name: of },
    { name: "requests", right: true },
    { name: "time of all", right: true },
    { name: "longest", right: true, wide: true },
    { name: "failed", right: true },
    { name: "refused", right: true, wide: true },
    { name: of === "client" ? "last" : "clients", right: true, wide: true },
    { name: "leads to" },
  ];
  return (
    <>
      <BusyTable label={`Web requests of ${host}`} headings={headings}>
        {shown.map((one) => (
          <BusyRow
            key={one.of}
            headings={headings}
            cells={[
              <span key="of" className="break-all font-semibold">
                {one.of || "not told"}
              </span>,
              timed ? (
                one.requests
              ) : (
                <Bar key="requests" part={one.requests / most}>
                  {one.requests}
                </Bar>
              ),
              one.seconds === null ? (
                ""
              ) : (
                <Bar key="time" part={one.seconds / most}>
                  {withUnit(one.seconds, "s")}
                </Bar>
              ),
              one.longest_seconds === null ? "" : withUnit(one.longest_seconds, "s"),
              one.failed > 0 ? (
                <span key="failed" className="font-semibold text-state-critical">
                  {one.failed}
                </span>
              ) : (
                ""
              ),
              one.refused || "",
              of === "client" ? moment(unix(one.last_at), span.end, true) : one.clients,
              <span key="leads" className="flex flex-wrap gap-x-3">
                {one.slowest && (
                  <Link className="link touch" to={`/events/one/${one.slowest}`}>
                    {one.longest_seconds === null ? "the last" : "the longest"}
                  </Link>
                )}
                <Link className="link touch" to={`/events?${new URLSearchParams(linesAsked(host, one, of, span))}`}>
                  lines
                </Link>
              </span>,
            ]}
          />
        ))}
      </BusyTable>
      <p className="mt-2 font-dense text-ink-2 text-xs">
        From {plural(looked, "line")} of access logs
        {left_out && ", the newest of the span: take a shorter one for all of it"}.
      </p>
    </>
  );
}

function linesAsked(host: string, one: Schemas["RequestSpan"], of: "path" | "client", span: Shared["span"]) {
  const path = one.of.split(" ").at(-1)?.split("{n}")[0] ?? "";
  const only = of === "client" ? `client.address eq ${quoted(one.of)}` : `url.path sw ${quoted(path)}`;
  return {
    where: `host eq ${quoted(host)} and ${only}`,
    from: String(Math.floor(span.start)),
    to: String(Math.ceil(span.end)),
  };
}
