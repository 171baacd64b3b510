import type { Schemas } from "../api/client";
import { inOrder, type Panel } from "../lib/sheet";
import type { Span } from "../lib/span";
import { Shown } from "./Shown";

/** The panels of a dashboard in the order in which they are read, each as wide as it is. */
export function Sheet({
  panels,
  answer,
  span,
  draw,
}: {
  panels: Panel[];
  answer: Schemas["DashboardAnswer"] | undefined;
  span: Span;
  draw: (start: number, end: number) => void;
}) {
  const places = inOrder(panels.map((panel, i) => ({ at: panel.at, i }))).map(({ i }) => i);
  return (
    <div className="grid grid-cols-1 items-start gap-x-6 gap-y-4 md:grid-cols-12">
      {places.map((i) => {
        const panel = panels[i] as Panel;
        return (
          <section
            key={`${panel.title} ${panel.at.join()}`}
            className="min-w-0"
            style={{ gridColumn: `span ${panel.at[2]} / span ${panel.at[2]}` }}
            aria-label={panel.title || panel.kind}
          >
            {panel.title && <h2 className="mb-1 font-dense font-semibold text-primary">{panel.title}</h2>}
            <Shown panel={panel} answer={answer?.panels[i]} span={span} draw={draw} />
          </section>
        );
      })}
    </div>
  );
}
