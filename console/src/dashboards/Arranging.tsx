import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { useNavigate } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { type Body, flowed, inOrder, moved, type Panel, resized } from "../lib/sheet";
import { useMay } from "../signin/session";
import { Failure } from "../ui/Note";
import { NewPanel } from "./NewPanel";
import { Variables } from "./Variables";

type Board = Schemas["Dashboard"];

/** A dashboard being put in order: panels as bars that are taken by their heading and put between others, or moved with
 * their buttons; what is chosen at its top; whom it is for. */
export function Arranging({ board }: { board: Board }) {
  const client = useQueryClient();
  const go = useNavigate();
  const may = useMay("operator");
  const [body, setBody] = useState<Body>(() => ({
    about: board.about ?? "",
    variables: board.variables ?? [],
    shared: board.shared ?? false,
    panels: inOrder(board.panels ?? []),
  }));
  const [taken, setTaken] = useState<number>();
  // One state after the other, so that none overtakes a later one.
  const { mutate, error } = useMutation({
    scope: { id: `dashboard ${board.name}` },
    mutationFn: (whole: Body) =>
      got(api.PUT("/api/v1/dashboards/{name}", { params: { path: { name: board.name } }, body: whole })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["dashboards"] }),
  });
  const panels = body.panels ?? [];
  const change = (next: Partial<Body>) => {
    const whole = { ...body, ...next };
    setBody(whole);
    mutate(whole);
  };
  const keep = (next: Panel[]) => change({ panels: next });
  const drop = (event: DragEvent, place: number) => {
    event.preventDefault();
    if (taken !== undefined) keep(moved(panels, taken, place));
    setTaken(undefined);
  };
  return (
    <>
      {error && <Failure error={error} />}
      <div className="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
        <label className="flex grow items-center gap-2">
          What it is for
          <input
            className="input input-sm max-w-xl grow"
            defaultValue={body.about}
            onBlur={(e) => e.target.value !== body.about && change({ about: e.target.value })}
          />
        </label>
        {may && (
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={body.shared ?? false}
              onChange={(e) => change({ shared: e.target.checked })}
            />
            shared with everybody
          </label>
        )}
      </div>
      <Variables variables={body.variables ?? []} keep={(variables) => change({ variables })} />
      <p className="mb-2 text-ink-2">
        Take a panel by its name and put it where it belongs, or use its buttons. Everything is kept at once.
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
      <NewPanel add={(panel) => keep(flowed([...panels, panel]))} />
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

function Turn({ name, of, go }: { name: string; of: Panel; go: () => void }) {
  return (
    <button type="button" className="btn btn-xs font-normal" aria-label={`${of.title || of.kind} ${name}`} onClick={go}>
      {name}
    </button>
  );
}
