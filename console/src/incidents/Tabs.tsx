import { NavLink, useSearchParams } from "react-router";
import { withSpan } from "../lib/useSpan";

const TABS = [
  { to: "/incidents", name: "Incidents" },
  { to: "/alerts", name: "Alerts" },
] as const;

/** What a person has to deal with, and the facts below it. */
export function IncidentTabs() {
  const [parameters] = useSearchParams();
  return (
    <nav aria-label="Incidents and alerts" className="flex gap-4 text-xl">
      {TABS.map((tab) => (
        <NavLink
          key={tab.to}
          to={withSpan(tab.to, parameters)}
          end
          className={({ isActive }) =>
            `touch flex items-center ${isActive ? "font-semibold" : "text-ink-2 hover:text-base-content"}`
          }
        >
          {({ isActive }) => (isActive ? <h1>{tab.name}</h1> : tab.name)}
        </NavLink>
      ))}
    </nav>
  );
}
