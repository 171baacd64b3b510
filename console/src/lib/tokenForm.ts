import type { Schemas } from "../api/client";

export const TOKEN_ROLES = ["ingest", "calendar", "screen", "viewer", "operator", "administrator"] as const;

/** A token as the form holds it. */
export interface TokenForm {
  name: string;
  role: (typeof TOKEN_ROLES)[number];
  hosts: string;
  newHosts: string;
  collected: "not" | "also";
  dashboards: string;
}

export const BLANK_TOKEN: TokenForm = {
  name: "",
  role: "ingest",
  hosts: "",
  newHosts: "1000",
  collected: "not",
  dashboards: "",
};

/** What is asked for: only a token that delivers, or shows dashboards, has a scope. */
export function tokenOf({ name, role, hosts, newHosts, collected, dashboards }: TokenForm): Schemas["NewToken"] {
  if (role === "screen") {
    const named = dashboards.split(",").map((one) => one.trim());
    return {
      name,
      role,
      scope: { kinds: ["metrics"], new_hosts: 0, collected: false, dashboards: named.filter(Boolean) },
    };
  }
  if (role !== "ingest") return { name, role };
  const scope: Schemas["Scope"] = {
    hosts: hosts || null,
    kinds: ["metrics", "logs"],
    new_hosts: Number(newHosts),
    collected: collected === "also",
    dashboards: [],
  };
  return { name, role, scope };
}
