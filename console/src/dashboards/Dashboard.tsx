import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { inOrder, moved, type Panel, resized } from "../lib/sheet";
import { instant } from "../lib/span";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Shown } from "./Shown";

type Board = Schemas["Dashboard"];

/** One dashboard: a sheet of panels over one span, with what is chosen at the top. */
export function Component() {
  const { name = "" } = useParams();
  const [parameters, setParameters] = useSearchParams();
  const { span, brush } = useSpan();
  const [arranging, setArranging] = useState(false);
  const board = useQuery({
    queryKey: ["dashboards", name],
    queryFn: () => got(api.GET("/api/v1/dashboards/{name}", { params: { path: { name } } })),
    retry: false,
  });
  const chosen = Object.fromEntries(
    (board.data?.variables ?? []).map((v) => [v.name, parameters.getAll(`var.${v.name}`).filter(Boolean)]),
  );
  const said = Object.fromEntries(Object.entries(chosen).filter(([, values]) => values.length));
  const answer = useQuery({
    queryKey: ["dashboards", name, "answers", board.data?.version, said, span.start, span.end],
    enabled: board.data !== undefined,
    queryFn: () =>
      got(
        api.POST("/api/v1/dashboards/{name}/answers", {
          params: { path: { name } },
          body: { from: instant(span.start), to: instant(span.end), points: 200, variables: said },
        }),
      ),
    placeholderData: keepPreviousData,
    retry: false,
  });
  if (board.isError) return <Failure error={board.error} again={() => void board.refetch()} />;
  if (!board.data) return <Waiting what={name} lines={8} />;
  const choose = (variable: string, value: string) =>
    setParameters((held) => {
      const next = new URLSearchParams(held);
      next.delete(`var.${variable}`);
      if (value) next.append(`var.${variable}`, value);
      return next;
    });
  return (
    <>
      <header className="mb-2 flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <h1 className="font-semibold text-xl">{name}</h1>
        {(answer.data?.variables ?? []).map((variable) => (
          <label key={variable.name} className="text-ink-2">
            {variable.name}{" "}
            <select
              aria-label={variable.name}
              className="grows cursor-pointer border-primary/70 border-b-2 bg-transparent font-semibold text-primary"
              value={variable.chosen[0] ?? ""}
              onChange={(e) => choose(variable.name, e.target.value)}
            >
              <option value="">all</option>
              {variable.choices.map((one) => (
                <option key={one} value={one}>
                  {one}
                </option>
              ))}
            </select>
          </label>
        ))}
        <span className="grow" />
        <span className="flex gap-3 font-dense text-ink-2 text-sm">
          {!board.data.from && (
            <button type="button" className="link" onClick={() => setArranging(!arranging)}>
              {arranging ? "Done" : "Arrange"}
            </button>
          )}
          <AsFile board={board.data} />
        </span>
      </header>
      {board.data.about && <p className="mb-2 text-ink-2">{board.data.about}</p>}
      {answer.isError && <Failure error={answer.error} again={() => void answer.refetch()} />}
      {!board.data.panels.length && (
        <Empty title="Nothing is pinned here yet.">Pin a chart where it stands: Charts, then pin to a dashboard.</Empty>
      )}
      {arranging ? (
        <Arranging board={board.data} />
      ) : (
        <div className="grid grid-cols-1 items-start gap-x-6 gap-y-4 md:grid-cols-12">
          {placesOf(board.data.panels).map((i) => {
            const panel = board.data.panels[i] as Panel;
            return (
              <section
                key={`${panel.title} ${panel.at.join()}`}
                className="min-w-0"
                style={{ gridColumn: `span ${panel.at[2]} / span ${panel.at[2]}` }}
                aria-label={panel.title || panel.kind}
              >
                {panel.title && <h2 className="mb-1 font-dense font-semibold text-primary">{panel.title}</h2>}
                <Shown panel={panel} answer={answer.data?.panels[i]} span={span} draw={brush} />
              </section>
            );
          })}
        </div>
      )}
    </>
  );
}

/** Numbers of panels in the order in which they are read. */
function placesOf(panels: Panel[]): number[] {
  return inOrder(panels.map((panel, i) => ({ at: panel.at, i }))).map(({ i }) => i);
}

function AsFile({ board }: { board: Board }) {
  const keep = async () => {
    const { dashboard } = { dashboard: board.name };
    const body = {
      dashboard,
      about: board.about,
      variables: board.variables,
      panels: board.panels,
      shared: board.shared,
    };
    const written = await got(api.POST("/api/v1/dashboards/written", { params: { query: { form: "json" } }, body }));
    const { download } = await import("../lib/csv");
    download(`${board.name}.json`, "application/json", [written.text]);
  };
  return (
    <button type="button" className="link" onClick={() => void keep()}>
      As a file
    </button>
  );
}

/** Panels as bars that are taken by their heading and put between others; or moved with their buttons. */
function Arranging({ board }: { board: Board }) {
  const client = useQueryClient();
  const go = useNavigate();
  const [panels, setPanels] = useState(() => inOrder(board.panels));
  const [taken, setTaken] = useState<number>();
  const [error, setError] = useState<unknown>();
  const keep = async (next: Panel[]) => {
    setPanels(next);
    try {
      await got(
        api.PUT("/api/v1/dashboards/{name}", {
          params: { path: { name: board.name } },
          body: { about: board.about, variables: board.variables, shared: board.shared, panels: next },
        }),
      );
      setError(undefined);
      await client.invalidateQueries({ queryKey: ["dashboards"] });
    } catch (problem) {
      setError(problem);
    }
  };
  const drop = (event: DragEvent, place: number) => {
    event.preventDefault();
    if (taken !== undefined) void keep(moved(panels, taken, place));
    setTaken(undefined);
  };
  return (
    <>
      {error !== undefined && <Failure error={error} />}
      <p className="mb-2 font-dense text-ink-2 text-sm">
        Take a panel by its heading and put it where it is to be; each move is kept at once.
      </p>
      <ol className="grid grid-cols-12 gap-2">
        {panels.map((panel, i) => (
          <li
            key={`${panel.title} ${panel.kind} ${JSON.stringify(panel.query)}`}
            style={{ gridColumn: `span ${panel.at[2]} / span ${panel.at[2]}` }}
            className={`min-w-0 rounded border p-2 ${taken === i ? "border-primary" : "border-base-300"}`}
            draggable
            onDragStart={() => setTaken(i)}
            onDragOver={(e) => e.preventDefault()}
            onDrop={(e) => drop(e, i)}
          >
            <div className="cursor-grab truncate font-semibold">{panel.title || panel.kind}</div>
            <div className="flex flex-wrap gap-1 font-dense">
              <Turn name="earlier" of={panel} go={() => keep(moved(panels, i, Math.max(0, i - 1)))} />
              <Turn name="later" of={panel} go={() => keep(moved(panels, i, i + 1))} />
              <Turn name="narrower" of={panel} go={() => keep(resized(panels, i, -1))} />
              <Turn name="wider" of={panel} go={() => keep(resized(panels, i, 1))} />
              <Turn name="take away" of={panel} go={() => keep(panels.toSpliced(i, 1))} />
            </div>
          </li>
        ))}
      </ol>
      <button
        type="button"
        className="btn btn-ghost btn-sm mt-4 text-error"
        onClick={() => {
          if (!window.confirm(`Take the dashboard ${board.name} away?`)) return;
          void got(api.DELETE("/api/v1/dashboards/{name}", { params: { path: { name: board.name } } }))
            .then(() => client.invalidateQueries({ queryKey: ["dashboards"] }))
            .then(() => go("/dashboards"));
        }}
      >
        Take the dashboard away
      </button>
    </>
  );
}

function Turn({ name, of, go }: { name: string; of: Panel; go: () => Promise<void> }) {
  return (
    <button
      type="button"
      className="btn btn-xs font-normal"
      aria-label={`${of.title || of.kind} ${name}`}
      onClick={() => void go()}
    >
      {name}
    </button>
  );
}
