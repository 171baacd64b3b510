import { FACETS, type Node, nodeOf } from "../lib/nodes";
import { isConcern, Layer, useLevel } from "./RollUp";

/** Which layer of a host something is the matter with, and why. */
export function Layers({ name }: { name: string }) {
  const level = useLevel("group", nodeOf(["host", name]));
  const node = level.data?.items[0];
  return node ? <Facets node={node} /> : null;
}

export function Facets({ node }: { node: Node }) {
  return (
    <p className="flex flex-wrap items-center gap-x-4 font-dense text-sm">
      {FACETS.map((facet) => (
        <span
          key={facet}
          className={`inline-flex items-center gap-1 ${isConcern(node.facets[facet]) ? "font-semibold" : "text-ink-2"}`}
        >
          <Layer facet={facet} state={node.facets[facet]} />
          {facet}
        </span>
      ))}
      <span className="grow-cell min-w-0 text-ink-2" title={node.why}>
        {node.why}
      </span>
    </p>
  );
}
