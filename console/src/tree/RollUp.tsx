import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { api, got, type State } from "../api/client";
import { plural } from "../lib/format";
import { FACETS, type Facet, type Node, pageOf } from "../lib/nodes";
import { COLOUR, HEIGHT } from "../lib/states";
import { withSpan } from "../lib/useSpan";
import { Failure, Waiting } from "../ui/Note";
import { Proportion } from "../ui/Ribbon";
import { Signal } from "../ui/Signal";

/** One level of the fleet, the worst first. */
export function useLevel(by: string, below?: string) {
  return useQuery({
    queryKey: ["tree", by, below ?? ""],
    queryFn: () => got(api.GET("/api/v1/tree", { params: { query: { by, below } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 20_000,
    retry: false,
  });
}

/** How many hosts of a level are shown before somebody asks for all. */
const FIRST = 30;

/** Who is worst, in which layer, and why, from sites, groups or applications down to hosts. */
export function RollUp({ by, below }: { by: string; below?: string }) {
  return (
    <table className="w-full border-collapse font-dense" aria-label="Who is worst, in which layer, and why">
      <thead>
        <tr className="border-base-300 border-b text-ink-2 text-sm">
          <th scope="col" className="py-1 text-left font-normal">
            where
          </th>
          <th scope="col" className="hidden w-32 text-left font-normal lg:table-cell">
            hosts
          </th>
          {FACETS.map((facet) => (
            <th key={facet} scope="col" className="hidden w-17 text-center font-normal md:table-cell">
              {facet}
            </th>
          ))}
          <th scope="col" className="w-1/3 pl-3 text-left font-normal max-md:hidden">
            why
          </th>
        </tr>
      </thead>
      <tbody>
        <Level by={by} below={below} depth={0} />
      </tbody>
    </table>
  );
}

function Level({ by, below, depth }: { by: string; below?: string; depth: number }) {
  const level = useLevel(by, below);
  const [whole, setWhole] = useState(false);
  if (level.isError)
    return (
      <Wide>
        <Failure error={level.error} again={() => void level.refetch()} />
      </Wide>
    );
  if (!level.data) return <Wide>{depth ? "…" : <Waiting what="the roll-up" lines={3} />}</Wide>;
  const { items, left_out } = level.data;
  const shown = whole ? items : items.slice(0, FIRST);
  if (!items.length) return <Wide>Nothing is below this.</Wide>;
  return (
    <>
      {shown.map((node) => (
        <Branch key={node.node} node={node} by={by} depth={depth} />
      ))}
      {items.length > shown.length && (
        <Wide depth={depth}>
          <button type="button" className="link touch" onClick={() => setWhole(true)}>
            and {items.length - shown.length} more
          </button>
        </Wide>
      )}
      {whole && left_out > 0 && <Wide depth={depth}>and {left_out} more: take a filter of the fleet for them</Wide>}
    </>
  );
}

function Wide({ children, depth = 0 }: { children: React.ReactNode; depth?: number }) {
  return (
    <tr>
      <td colSpan={9} className="py-1 text-ink-2 text-sm" style={{ paddingLeft: depth * 20 + 24 }}>
        {children}
      </td>
    </tr>
  );
}

function Branch({ node, by, depth }: { node: Node; by: string; depth: number }) {
  const [open, setOpen] = useState(false);
  const [parameters] = useSearchParams();
  const concerned = FACETS.filter((facet) => isConcern(node.facets[facet]));
  return (
    <>
      <tr className="border-base-300 border-b align-baseline hover:bg-base-200">
        <th scope="row" className="py-1 text-left font-normal" style={{ paddingLeft: depth * 20 }}>
          <span className="flex items-baseline gap-1.5">
            {node.below ? (
              <button
                type="button"
                className="touch w-5 shrink-0 cursor-pointer text-center text-ink-2"
                aria-expanded={open}
                aria-label={`What is below ${node.name}`}
                onClick={() => setOpen(!open)}
              >
                {open ? "▾" : "▸"}
              </button>
            ) : (
              <span className="w-5 shrink-0" />
            )}
            <span className="relative top-0.5">
              <Signal state={node.state} size={16} />
            </span>
            <span className="min-w-0">
              <Link className="touch font-semibold hover:underline" to={withSpan(pageOf(node), parameters)}>
                {node.name === "(none)" ? `no ${by.replace("label.", "")}` : node.name}
              </Link>{" "}
              {node.kind !== "host" && <span className="text-ink-2 text-sm">{plural(node.hosts, "host")}</span>}
              <span className="block text-sm md:hidden">
                {concerned.length > 0 && <span className="font-semibold">{concerned.join(", ")}: </span>}
                <span className="text-ink-2">{node.why}</span>
              </span>
            </span>
          </span>
        </th>
        <td className="hidden pr-3 align-middle lg:table-cell">
          {node.kind !== "host" && <Proportion states={node.counts} total={node.hosts} />}
        </td>
        {FACETS.map((facet) => (
          <td key={facet} className="hidden text-center align-middle md:table-cell">
            <Layer facet={facet} state={node.facets[facet]} />
          </td>
        ))}
        <td className="max-w-0 truncate pl-3 text-ink-2 text-sm max-md:hidden" title={node.why}>
          {node.why}
        </td>
      </tr>
      {open && <Level by={by} below={node.node} depth={depth + 1} />}
    </>
  );
}

export function isConcern(state: State | undefined): state is State {
  return state !== undefined && state !== "ok" && state !== "paused";
}

/** A layer's state: a signal where something is the matter, a low mark where all is well. */
export function Layer({ facet, state }: { facet: Facet; state: State | undefined }) {
  if (isConcern(state)) return <Signal state={state} size={16} label={`${facet} ${state}`} />;
  const tall = 14 * HEIGHT[state ?? "paused"];
  return (
    <svg width="10" height="14" role="img" aria-label={`${facet} ${state ?? "not known"}`} className="inline-block">
      <rect x="2" y={14 - tall} width="6" height={tall} rx="1" fill={COLOUR[state ?? "paused"]} opacity="0.55" />
    </svg>
  );
}
