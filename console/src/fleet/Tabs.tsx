import { NavLink, useSearchParams } from "react-router";
import { withSpan } from "../lib/useSpan";

const PARTS = [
  { to: "/fleet", name: "Hosts" },
  { to: "/services", name: "Services" },
  { to: "/probes", name: "Probes" },
  { to: "/availability", name: "Availability" },
] as const;

/** The ways to look at the fleet: its hosts, what runs on them, what is asked of them from outside, and whether they were there. */
export function FleetTabs() {
  const [parameters] = useSearchParams();
  return (
    <nav aria-label="Fleet" className="mb-3 flex gap-x-5 border-base-300 border-b">
      {PARTS.map((part) => (
        <NavLink
          key={part.to}
          to={withSpan(part.to, parameters)}
          end
          className={({ isActive }) =>
            `-mb-px border-b-2 py-1 ${isActive ? "border-primary font-semibold" : "border-transparent text-ink-2"}`
          }
        >
          {part.name}
        </NavLink>
      ))}
    </nav>
  );
}
