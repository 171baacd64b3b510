import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { useAddress } from "../lib/useAddress";
import { useSpan, withSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { Arranging } from "./Arranging";
import { Sheet } from "./Sheet";
import { chosenIn, useAnswers, useBoard } from "./useBoard";

/** One dashboard: a sheet of panels over one span, with what is chosen at the top. */
export function Component() {
  const { name = "" } = useParams();
  const [parameters, change] = useAddress();
  const { span, brush } = useSpan();
  const [arranging, setArranging] = useState(false);
  const board = useBoard(name);
  const answer = useAnswers(board.data, span, chosenIn(parameters, board.data));
  if (board.isError) return <Failure error={board.error} again={() => void board.refetch()} />;
  if (!board.data) return <Waiting what={name} lines={8} />;
  const choose = (variable: string, value: string) => change({ [`var.${variable}`]: value }, true);
  const screen = new URLSearchParams(parameters);
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
          <Link
            className="link"
            to={`/screen/${encodeURIComponent(name)}${screen.size ? `?${screen}` : ""}`}
            title="Full screen, for a control room; Settings, Tokens makes one for a screen that nobody signs in at"
          >
            On a screen
          </Link>
          <AsFile board={board.data} />
        </span>
      </header>
      {board.data.about && <p className="mb-2 text-ink-2">{board.data.about}</p>}
      {answer.isError && <Failure error={answer.error} again={() => void answer.refetch()} />}
      {!board.data.panels?.length && !arranging && (
        <Empty title="Nothing is pinned here yet.">
          Pin what you look at where it stands, like a{" "}
          <Link className="link" to={withSpan("/charts", parameters)}>
            chart
          </Link>
          ; or{" "}
          <button type="button" className="link" onClick={() => setArranging(true)}>
            add panels here
          </button>
          .
        </Empty>
      )}
      {arranging ? (
        <Arranging board={board.data} />
      ) : (
        <Sheet panels={board.data.panels ?? []} answer={answer.data} span={span} draw={brush} />
      )}
    </>
  );
}

function AsFile({ board }: { board: Schemas["Dashboard"] }) {
  const keep = async () => {
    const { about, variables, panels, shared } = board;
    const body = { dashboard: board.name, about, variables, panels, shared };
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
