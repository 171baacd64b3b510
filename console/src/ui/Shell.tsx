import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { NavLink, Outlet, useLocation, useSearchParams } from "react-router";
import { api, got } from "../api/client";
import { useLive } from "../lib/live";
import { useIncidents } from "../lib/queries";
import { withSpan } from "../lib/useSpan";
import { useSession } from "../signin/session";
import { Signal } from "./Signal";
import { SpanPicker } from "./SpanPicker";

const MENU: { to: string; name: string; also?: string[] }[] = [
  { to: "/", name: "Now" },
  { to: "/fleet", name: "Fleet", also: ["/enrol", "/compare", "/services", "/probes", "/availability", "/below"] },
  { to: "/applications", name: "Applications" },
  { to: "/charts", name: "Charts" },
  { to: "/dashboards", name: "Dashboards" },
  { to: "/events", name: "Events" },
  { to: "/incidents", name: "Incidents", also: ["/alerts"] },
  { to: "/rules", name: "Rules" },
  { to: "/settings", name: "Settings" },
];

function Theme() {
  const [theme, setTheme] = useState(() => document.documentElement.getAttribute("data-theme") ?? "");
  const choose = (next: string) => {
    setTheme(next);
    if (next) document.documentElement.setAttribute("data-theme", next);
    else document.documentElement.removeAttribute("data-theme");
    try {
      localStorage.setItem("balise.theme", next);
    } catch {
      // Storage may be closed to us; the choice then lasts until the page is left.
    }
  };
  return (
    <label className="flex items-center justify-between gap-2 px-3 py-1.5">
      Theme
      <select className="select select-xs w-28" value={theme} onChange={(e) => choose(e.target.value)}>
        <option value="">as the system</option>
        <option value="quay">quay, day</option>
        <option value="lantern">lantern, dark</option>
      </select>
    </label>
  );
}

function Count({ count, critical }: { count: number; critical: boolean }) {
  return (
    <span
      className={`font-dense font-semibold text-sm ${critical ? "text-state-critical" : "text-state-warning"}`}
      title={`${count} open`}
    >
      {count}
    </span>
  );
}

/** With which page the console begins for whoever is signed in: this one, or Now. */
function FirstPage() {
  const { me } = useSession();
  const client = useQueryClient();
  const { pathname, search } = useLocation();
  const here = pathname === "/" ? "" : `${pathname}${search}`;
  const choose = (page: string) => {
    got(api.PUT("/api/v1/session/first-page", { body: { page } }))
      .then(() => client.setQueryData(["session"], { ...me, first_page: page }))
      .catch(() => undefined);
  };
  return (
    <div className="px-3 py-1.5">
      <p className="text-ink-2">begins with {me.first_page ? me.first_page.slice(0, 60) : "Now"}</p>
      {here !== me.first_page && (
        <button type="button" className="link touch" onClick={() => choose(here)}>
          begin with this page
        </button>
      )}
      {me.first_page && here !== "" && (
        <button type="button" className="link touch ml-3" onClick={() => choose("")}>
          with Now
        </button>
      )}
    </div>
  );
}

/** Who is signed in, how it looks to them, and the way out. */
function Person({ name, role, signOut }: { name: string; role: string; signOut: () => void }) {
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-ghost btn-sm font-normal">{name} ▾</summary>
      <div className="dropdown-content z-20 w-56 rounded-box border border-base-300 bg-base-100 py-1 text-sm">
        <p className="px-3 py-1.5 text-ink-2">signed in as {role}</p>
        <Theme />
        <FirstPage />
        <button type="button" className="touch w-full px-3 py-1.5 text-left hover:bg-base-200" onClick={signOut}>
          Sign out
        </button>
      </div>
    </details>
  );
}

/** The frame of every page: brand, span, menu. */
export function Shell() {
  const { me, status, signOut } = useSession();
  const link = useLive(me.name !== null);
  const [parameters] = useSearchParams();
  const { pathname } = useLocation();
  const [unfolded, setUnfolded] = useState(false);
  const open = useIncidents("open");
  const wrong = open.data?.items.filter((i) => !i.recovered_at && !i.practice) ?? [];
  const count = wrong.length;
  const critical = wrong.some((i) => i.severity === "critical");
  useEffect(() => {
    const page = MENU.find((m) =>
      m.to === "/" ? pathname === "/" : [m.to, ...(m.also ?? [])].some((p) => pathname.startsWith(p)),
    );
    document.title = `${count ? `(${count}) ` : ""}${page?.name ?? "Balise"} – Balise`;
  }, [pathname, count]);
  useEffect(() => setUnfolded(false), [pathname]);
  return (
    <div className="grid min-h-screen grid-rows-[auto_1fr] md:grid-cols-[124px_minmax(0,1fr)] md:grid-rows-[46px_1fr]">
      <header className="flex flex-wrap items-center gap-x-3 border-base-300 border-b px-3 md:col-span-2 md:flex-nowrap md:px-4">
        <a href="#main" className="sr-only focus:not-sr-only">
          To the content
        </a>
        <button
          type="button"
          className="btn btn-ghost font-normal md:hidden"
          aria-expanded={unfolded}
          aria-controls="menu"
          onClick={() => setUnfolded(!unfolded)}
        >
          {unfolded ? "Close" : "Menu"}
          {!unfolded && count > 0 && <Count count={count} critical={critical} />}
        </button>
        <span className="hidden md:inline">
          <Signal state="ok" size={22} label={false} />
        </span>
        <span className="font-semibold text-lg">Balise</span>
        <span className="hidden font-dense text-ink-2 md:inline">{status?.organisation}</span>
        <span className="grow" />
        {link === "lost" && (
          <span role="status" className="font-dense text-warning">
            nothing heard from the console: what is shown may be old
          </span>
        )}
        <span className="order-last w-full md:order-none md:w-auto">
          <SpanPicker />
        </span>
        <Person name={me.name ?? ""} role={me.role ?? ""} signOut={signOut} />
      </header>
      <nav
        id="menu"
        aria-label="Pages"
        className={`border-base-300 bg-base-200 md:block md:border-r md:pt-3 ${unfolded ? "border-b" : "hidden"}`}
      >
        <ul>
          {MENU.map((item) => (
            <li key={item.to}>
              <NavLink
                to={withSpan(item.to, parameters)}
                end={item.to === "/"}
                className={({ isActive }) =>
                  `touch flex items-center justify-between border-l-3 px-3 py-1.5 ${
                    isActive || item.also?.some((p) => pathname.startsWith(p))
                      ? "border-primary bg-base-100 font-semibold"
                      : "border-transparent text-ink-2 hover:text-base-content"
                  }`
                }
              >
                {item.name}
                {item.name === "Incidents" && count > 0 && <Count count={count} critical={critical} />}
              </NavLink>
            </li>
          ))}
        </ul>
      </nav>
      <main id="main" className="min-w-0 overflow-x-auto px-3 pt-3 pb-10 md:overflow-x-visible md:px-[18px]">
        {(status?.warnings ?? []).map((text) => (
          <p key={text} role="alert" className="mb-2 border-warning border-l-4 py-0.5 pl-3">
            {text}
          </p>
        ))}
        <Outlet />
      </main>
    </div>
  );
}
