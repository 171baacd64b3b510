import { NavLink, Outlet } from "react-router";
import { useMay } from "../signin/session";

const PARTS = [
  { to: "/settings", name: "Enrolment keys", role: "administrator" },
  { to: "/settings/credentials", name: "Credentials", role: "viewer" },
  { to: "/settings/groups", name: "Groups", role: "viewer" },
  { to: "/settings/plans", name: "Plans", role: "viewer" },
  { to: "/settings/relays", name: "Relays", role: "viewer" },
  { to: "/settings/receivers", name: "Receivers and forwards", role: "viewer" },
  { to: "/settings/channels", name: "Channels", role: "viewer" },
  { to: "/settings/callouts", name: "Callouts", role: "viewer" },
  { to: "/settings/duty", name: "People and rotas", role: "viewer" },
  { to: "/settings/maintenance", name: "Maintenance", role: "viewer" },
  { to: "/settings/deliveries", name: "Deliveries", role: "viewer" },
  { to: "/settings/users", name: "Users", role: "administrator" },
  { to: "/settings/tokens", name: "Tokens", role: "administrator" },
  { to: "/settings/storage", name: "Storage", role: "viewer" },
] as const;

export function Component() {
  const all = useMay("administrator");
  return (
    <>
      <h1 className="mb-1 font-semibold text-xl">Settings</h1>
      <nav aria-label="Settings" className="mb-4 flex flex-wrap gap-x-5 border-base-300 border-b">
        {PARTS.filter((p) => all || p.role === "viewer").map((part) => (
          <NavLink
            key={part.to}
            to={part.to}
            end
            className={({ isActive }) =>
              `-mb-px border-b-2 py-1.5 ${isActive ? "border-primary font-semibold" : "border-transparent text-ink-2"}`
            }
          >
            {part.name}
          </NavLink>
        ))}
      </nav>
      <Outlet />
    </>
  );
}
