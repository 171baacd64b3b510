import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got, type Schemas } from "../api/client";
import { BLANK_CALLOUT, type CalloutForm, formOf, stepWords } from "../lib/calloutForm";
import { hoursText } from "../lib/hours";
import { useMay } from "../signin/session";
import { Empty, Failure, Waiting } from "../ui/Note";
import { useForm } from "../ui/useForm";
import { CalloutEdit } from "./CalloutEdit";
import { DrillReport } from "./DrillReport";
import { Remove, Wrong } from "./parts";
import { Who } from "./Who";

/** Who is told of what, by which way, and what if nobody answers. */
export function Component() {
  const may = useMay("administrator");
  const client = useQueryClient();
  const callouts = useQuery({ queryKey: ["callouts"], queryFn: () => got(api.GET("/api/v1/callouts")) });
  const form = useForm<CalloutForm>(BLANK_CALLOUT);
  const [edited, setEdited] = useState(false);
  const again = () => client.invalidateQueries({ queryKey: ["callouts"] });
  if (callouts.isError) return <Failure error={callouts.error} />;
  if (!callouts.data) return <Waiting what="the callouts" />;
  return (
    <>
      <Who />
      <div className="mt-6 mb-2 flex items-center gap-4">
        <h2 className="font-semibold">Callouts</h2>
        {may && !edited && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => {
              form.reset();
              setEdited(true);
            }}
          >
            A new callout
          </button>
        )}
      </div>
      {edited && (
        <CalloutEdit
          form={form}
          done={() => {
            setEdited(false);
            void again();
          }}
        />
      )}
      {callouts.data.items.length === 0 && (
        <Empty title="No callouts yet">
          A callout says who is told of what: without one, nobody is. First come{" "}
          <Link className="link" to="/settings/channels">
            channels
          </Link>
          , then{" "}
          <Link className="link" to="/settings/duty">
            people and rotas
          </Link>
          , then callouts that tell them.
        </Empty>
      )}
      <div className="hairline border-base-300 border-y">
        {callouts.data.items.map((callout) => (
          <OneCallout
            key={callout.name}
            callout={callout}
            edit={() => {
              form.reset(formOf(callout));
              setEdited(true);
              window.scrollTo({ top: 0 });
            }}
            again={again}
          />
        ))}
      </div>
    </>
  );
}

function OneCallout({
  callout,
  edit,
  again,
}: {
  callout: Schemas["Callout"];
  edit: () => void;
  again: () => Promise<unknown>;
}) {
  const admin = useMay("administrator");
  const operator = useMay("operator");
  const [problem, setProblem] = useState("");
  const [drill, setDrill] = useState<number>();
  const path = { name: callout.name };
  return (
    <section className="py-3" aria-label={callout.name}>
      <div className="flex flex-wrap items-center gap-2">
        <h3 className="font-semibold text-lg">{callout.name}</h3>
        <span className="grow" />
        {operator && (
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            onClick={() => {
              got(api.POST("/api/v1/callouts/{name}/drill", { params: { path } }))
                .then((made) => setDrill(made.id))
                .catch((error: Error) => setProblem(error.message));
            }}
          >
            Practise it
          </button>
        )}
        {admin && (
          <>
            <button type="button" className="btn btn-ghost btn-xs" onClick={edit}>
              Change
            </button>
            <Remove
              work={() => got(api.DELETE("/api/v1/callouts/{name}", { params: { path } }))}
              done={again}
              failed={setProblem}
            />
          </>
        )}
      </div>
      <p>
        When <code className="bg-base-200 px-1">{callout.when || "anything is wrong"}</code>
        {callout.hours && `, ${hoursText(callout.hours)}`}:
      </p>
      <ol className="font-dense text-lg">
        {stepWords(callout).map(([after, whom]) => (
          <li key={`${after} ${whom}`} className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3">
            <span className="text-ink-2">{after}</span>
            <span>{whom}</span>
          </li>
        ))}
        {callout.again && (
          <li className="grid grid-cols-[110px_minmax(0,1fr)] gap-x-3 text-ink-2">
            <span>then {callout.again} later</span>
            <span>all of it again, while nobody has it</span>
          </li>
        )}
      </ol>
      <p className="text-ink-2 text-sm">
        What belongs together within {callout.gather} is told together.
        {callout.digest && ` Warnings wait ${callout.digest} and are told together.`}
      </p>
      {drill !== undefined && <DrillReport number={drill} />}
      <Wrong problem={problem} />
    </section>
  );
}
