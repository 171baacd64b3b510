import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, isRouteErrorResponse, Link, useRouteError } from "react-router";
import { RouterProvider } from "react-router/dom";
import { Refused } from "./api/client";
import { endEarly } from "./lib/early";
import { SessionGate } from "./signin/session";
import { Failure } from "./ui/Note";
import { Shell } from "./ui/Shell";
import "./styles.css";

function Broken() {
  const error = useRouteError();
  const nothing = error === undefined || (isRouteErrorResponse(error) && error.status === 404);
  return (
    <div className="p-8">
      {nothing ? (
        <p>There is no page at this address.</p>
      ) : (
        <Failure error={error} again={() => window.location.reload()} />
      )}
      <Link className="link" to="/">
        Back to Now
      </Link>
    </div>
  );
}

// After an update, an open page asks for files that are gone: one reload brings the new ones.
window.addEventListener("vite:preloadError", () => {
  if (!sessionStorage.getItem("balise.reloaded")) {
    sessionStorage.setItem("balise.reloaded", "1");
    window.location.reload();
  }
});

const router = createBrowserRouter([
  {
    // Whoever has the link of a message acts by it without signing in.
    path: "/incidents/:id/act/:token",
    lazy: () => import("./incidents/Act"),
    errorElement: <Broken />,
    HydrateFallback: () => null,
  },
  {
    // A wall of dashboards for a screen that nobody touches, which has a token of its own.
    path: "/screen/:names",
    lazy: () => import("./dashboards/Screen"),
    errorElement: <Broken />,
    HydrateFallback: () => null,
  },
  {
    path: "/",
    element: (
      <SessionGate>
        <Shell />
      </SessionGate>
    ),
    errorElement: <Broken />,
    HydrateFallback: () => null,
    children: [
      { index: true, lazy: () => import("./now/Now") },
      { path: "fleet", lazy: () => import("./fleet/Fleet") },
      { path: "fleet/:name", lazy: () => import("./host/Host") },
      { path: "fleet/:name/inventory", lazy: () => import("./inventory/Inventory") },
      { path: "fleet/:name/processes", lazy: () => import("./host/Processes") },
      { path: "below/*", lazy: () => import("./tree/Below") },
      { path: "availability", lazy: () => import("./availability/Availability") },
      { path: "applications", lazy: () => import("./applications/Applications") },
      { path: "applications/:name", lazy: () => import("./applications/Application") },
      { path: "services", lazy: () => import("./services/Services") },
      { path: "services/:id", lazy: () => import("./services/Service") },
      { path: "probes", lazy: () => import("./probes/Probes") },
      { path: "probes/:name", lazy: () => import("./probes/Probe") },
      { path: "compare", lazy: () => import("./fleet/Compare") },
      { path: "enrol", lazy: () => import("./enrol/Enrol") },
      { path: "enrol/:id", lazy: () => import("./enrol/Progress") },
      { path: "dashboards", lazy: () => import("./dashboards/Dashboards") },
      { path: "dashboards/:name", lazy: () => import("./dashboards/Dashboard") },
      { path: "charts", lazy: () => import("./charts/Charts") },
      { path: "events", lazy: () => import("./events/Events") },
      { path: "events/patterns", lazy: () => import("./events/Patterns") },
      { path: "events/fields", lazy: () => import("./events/Fields") },
      { path: "events/sign-ins", lazy: () => import("./events/SignIns") },
      { path: "events/sources", lazy: () => import("./events/Sources") },
      { path: "events/one/:id", lazy: () => import("./events/One") },
      { path: "incidents", lazy: () => import("./incidents/Incidents") },
      { path: "incidents/:id", lazy: () => import("./incidents/Incident") },
      { path: "alerts", lazy: () => import("./alerts/Alerts") },
      { path: "alerts/:id", lazy: () => import("./alerts/Alert") },
      { path: "rules", lazy: () => import("./rules/Rules") },
      { path: "rules/new", lazy: () => import("./rules/RuleEdit") },
      { path: "rules/:name", lazy: () => import("./rules/RuleEdit") },
      {
        path: "settings",
        lazy: () => import("./settings/Settings"),
        children: [
          { index: true, lazy: () => import("./settings/Keys") },
          { path: "credentials", lazy: () => import("./settings/Credentials") },
          { path: "groups", lazy: () => import("./settings/Groups") },
          { path: "plans", lazy: () => import("./settings/Plans") },
          { path: "relays", lazy: () => import("./settings/Relays") },
          { path: "channels", lazy: () => import("./settings/Channels") },
          { path: "callouts", lazy: () => import("./settings/Callouts") },
          { path: "duty", lazy: () => import("./settings/Duty") },
          { path: "maintenance", lazy: () => import("./settings/Maintenance") },
          { path: "deliveries", lazy: () => import("./settings/Deliveries") },
          { path: "users", lazy: () => import("./settings/People") },
          { path: "tokens", lazy: () => import("./settings/Tokens") },
          { path: "receivers", lazy: () => import("./settings/Receivers") },
          { path: "storage", lazy: () => import("./settings/Storage") },
          { path: "*", element: <Broken /> },
        ],
      },
      { path: "*", element: <Broken /> },
    ],
  },
]);

const client = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, error) => count < 2 && !(error instanceof Refused && error.status < 500),
      staleTime: 5_000,
    },
  },
});

endEarly();
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={client}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
