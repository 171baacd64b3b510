import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import { api, got } from "../api/client";
import { Pin } from "../dashboards/Pin";
import { statesPanel } from "../dashboards/pinned";
import { plural } from "../lib/format";
import { pageOf, stepsOf, whereOf } from "../lib/nodes";
import { useIncidents } from "../lib/queries";
import { useSpan, withSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Proportion, Ribbon } from "../ui/Ribbon";
import { Signal } from "../ui/Signal";
import { Facets } from "./Layers";
import { Open } from "./Open";
import { RollUp, useLevel } from "./RollUp";

/** A site, a group or whatever shares a label: how it does, what is open on it, and what is below it. */
export function Component() {
  const { "*": path = "" } = useParams();
  const node = path;
  const steps = stepsOf(node);
  const by = steps[0]?.by ?? "site";
  const name = steps.at(-1)?.name ?? "";
  const where = whereOf(node);
  const [parameters] = useSearchParams();
  // What a node is like stands among those beside it.
  const level = useLevel(by, node.split("/").slice(0, -1).join("/") || undefined);
  const incidents = useIncidents("open", where);
  if (level.isError) return <Failure error={level.error} again={() => void level.refetch()} />;
  if (!level.data) return <Waiting what={name} lines={8} />;
  const itself = level.data.items.find((one) => one.node === node || whereOf(one.node) === where);
  if (!itself) return <Empty title={`There is no ${by.replace("label.", "")} ${name} any more.`} />;
  const to = (page: string, extra: Record<string, string> = {}) => withSpan(page, parameters, { where, ...extra });
  return (
    <>
      <header className="mb-2">
        <p className="font-dense text-ink-2 text-sm">
          {steps.slice(0, -1).map((step, i) => (
            <span key={step.name}>
              <Link
                className="hover:underline"
                to={withSpan(
                  pageOf({
                    node: node
                      .split("/")
                      .slice(0, i + 1)
                      .join("/"),
                    kind: step.by as "site",
                    name: step.name,
                  }),
                  parameters,
                )}
              >
                {step.by.replace("label.", "")} {step.name}
              </Link>{" "}
              ›{" "}
            </span>
          ))}
          {steps.at(-1)?.by.replace("label.", "")}
        </p>
        <h1 className="flex items-center gap-1.5 font-semibold text-xl">
          <Signal state={itself.state} size={22} />
          {name === "(none)" ? `no ${by.replace("label.", "")}` : name}
          <span className="font-dense font-normal text-base text-ink-2">{plural(itself.hosts, "host")}</span>
        </h1>
        <div className="my-1 max-w-md">
          <Proportion states={itself.counts} total={itself.hosts} />
        </div>
        <Facets node={itself} />
        <p className="flex flex-wrap gap-x-4 font-dense text-sm max-md:[&>a]:inline-flex max-md:[&>a]:min-h-11 max-md:[&>a]:items-center">
          <Link className="link" to={to("/fleet")}>
            As a table
          </Link>
          <Link className="link" to={to("/events")}>
            Events
          </Link>
          <Link className="link" to={to("/availability", { of: "host" })}>
            Availability
          </Link>
          <Link
            className="link"
            to={withSpan("/charts", parameters, { q: `avg of balise.cpu.busy by host where ${where}` })}
          >
            Charts
          </Link>
          <Pin panel={() => statesPanel(by, node, name)} />
        </p>
        {steps.length === 1 && by === "group" && <Day name={name} />}
      </header>
      <Open incidents={incidents.data?.items ?? []} />
      <RollUp by={by} below={node} />
    </>
  );
}

const DAY = 86_400;

/** How a group did in the last day. */
function Day({ name }: { name: string }) {
  const { now } = useSpan();
  const end = Math.floor(now / 60) * 60 + 60;
  const groups = useQuery({
    queryKey: ["groups", end - DAY, end],
    queryFn: () => got(api.GET("/api/v1/groups", { params: { query: { from: "-24h", to: "now" } } })),
  });
  const group = groups.data?.items.find((one) => one.name === name);
  if (!group) return null;
  return (
    <div className="mt-1 flex items-center gap-3 font-dense text-ink-2 text-sm">
      <span className="shrink-0">last 24 h</span>
      <Ribbon changes={group.ribbon} start={end - DAY} end={end} />
    </div>
  );
}
