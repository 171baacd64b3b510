import { NavLink, useSearchParams } from "react-router";

const PAGES = [
  { to: "/events", name: "Lines" },
  { to: "/events/patterns", name: "Patterns" },
  { to: "/events/fields", name: "Fields" },
  { to: "/events/sign-ins", name: "Sign-ins" },
  { to: "/events/sources", name: "Sources" },
] as const;

/** The ways of looking at events; what is asked for goes along. */
export function EventsNav() {
  const [parameters] = useSearchParams();
  const kept = new URLSearchParams(parameters);
  kept.delete("host");
  const asked = kept.toString();
  return (
    <nav aria-label="Events" className="mb-3 flex flex-wrap gap-x-5 border-base-300 border-b">
      {PAGES.map((page) => (
        <NavLink
          key={page.to}
          to={asked ? `${page.to}?${asked}` : page.to}
          end
          className={({ isActive }) =>
            `-mb-px touch border-b-2 py-1.5 ${isActive ? "border-primary font-semibold" : "border-transparent text-ink-2"}`
          }
        >
          {page.name}
        </NavLink>
      ))}
    </nav>
  );
}
