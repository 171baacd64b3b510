import type { Schemas } from "../api/client";
import { quoted } from "./filterText";

export type Node = Schemas["TreeNode"];
export type Facet = keyof Node["facets"];
export const FACETS = ["hardware", "system", "storage", "network", "services", "events"] as const;

/** The steps to a node: `site=northquay/host=web-n1` is the site, then the host. */
export function stepsOf(node: string): { by: string; name: string }[] {
  return node
    .split("/")
    .filter(Boolean)
    .map((step) => {
      const at = step.indexOf("=");
      return { by: step.slice(0, at), name: decodeURIComponent(step.slice(at + 1)) };
    });
}

/** A node's address among nodes. */
export function nodeOf(...steps: [by: string, name: string][]): string {
  return steps.map(([by, name]) => `${by}=${encodeURIComponent(name)}`).join("/");
}

/** The hosts of a node, as a filter. */
export function whereOf(node: string): string {
  return stepsOf(node)
    .map(({ by, name }) => (name === "(none)" ? `${by} eq null` : `${by} eq ${quoted(name)}`))
    .join(" and ");
}

/** The page of a node: a host's and an application's own, else what is below it. */
export function pageOf(node: Pick<Node, "node" | "kind" | "name">): string {
  if (node.kind === "host") return `/fleet/${encodeURIComponent(node.name)}`;
  if (node.kind === "application" && node.name !== "(none)") return `/applications/${encodeURIComponent(node.name)}`;
  return `/below/${node.node
    .split("/")
    .map((step) => encodeURIComponent(step))
    .join("/")}`;
}
