import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, got, type Schemas } from "../api/client";
import { asked as askedOf } from "../lib/asks";
import { canBeAsked, onlyWith } from "../lib/filterText";
import { plural } from "../lib/format";
import { useHistogram } from "../lib/queries";
import { useSpan } from "../lib/useSpan";
import { Empty, Failure, Waiting } from "../ui/Note";
import { AskBar } from "./AskBar";
import { EventsNav } from "./Nav";
import { type Asked, useAsked } from "./useAsked";

type Field = Schemas["FieldCount"];

/** What attributes hold most: each value can be asked for or left out. */
export function Component() {
  const { span } = useSpan();
  const asked = useAsked();
  const [named, setNamed] = useState("");
  const { text, filter, saved } = asked;
  const total = useHistogram(text, filter, span, 90, saved);
  const answer = useQuery({
    queryKey: ["fields", text, filter, span.start, span.end, saved],
    queryFn: () =>
      got(api.POST("/api/v1/events/fields", { body: { ...askedOf(text, filter, saved, span), limit: 8 } })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const found = answer.data?.items.filter((field) => field.attribute.toLowerCase().includes(named.toLowerCase()));
  return (
    <>
      <h1 className="font-semibold text-xl leading-8">Fields</h1>
      <EventsNav />
      <AskBar asked={asked} found={total.data && plural(total.data.total, "event")}>
        <label>
          <span className="sr-only">Attributes by name</span>
          <input
            className="input input-sm w-44"
            placeholder="attributes by name"
            value={named}
            onChange={(e) => setNamed(e.target.value)}
          />
        </label>
      </AskBar>
      {answer.isError && <Failure error={answer.error} />}
      {!answer.data && !answer.isError && <Waiting what="the fields" lines={10} />}
      {found?.length === 0 && (
        <Empty title="No attribute in this span">Choose a longer span above, or take words away.</Empty>
      )}
      {answer.data && answer.data.left_out > 0 && (
        <p className="mt-2 text-ink-2 text-sm">
          The newest were looked at; {plural(answer.data.left_out, "older event")} were too many.
        </p>
      )}
      <div className="mt-3 grid items-start gap-x-8 gap-y-5 font-dense text-sm md:grid-cols-2 xl:grid-cols-3">
        {found?.map((field) => (
          <Values key={field.attribute} field={field} total={total.data?.total ?? 0} asked={asked} />
        ))}
      </div>
    </>
  );
}

function Values({ field, total, asked }: { field: Field; total: number; asked: Asked }) {
  const may = canBeAsked(field.attribute);
  const most = Math.max(1, field.events);
  return (
    <section aria-label={field.attribute}>
      <h2 className="flex justify-between gap-2 border-base-300 border-b">
        <span className="break-all font-semibold">{field.attribute}</span>
        <span className="whitespace-nowrap text-ink-2">
          {field.events * 100 >= total && total
            ? `${Math.round((100 * field.events) / total)} % of events`
            : plural(field.events, "event")}
        </span>
      </h2>
      <ul>
        {field.values.map((one) => (
          <li key={String(one.value)} className="flex items-baseline gap-2 py-0.5">
            <span className="relative min-w-0 grow">
              <span
                aria-hidden
                className="absolute inset-y-0 left-0 bg-base-300"
                style={{ width: `${(100 * one.count) / most}%` }}
              />
              <span className="relative block truncate px-1" title={String(one.value)}>
                {String(one.value)}
              </span>
            </span>
            <span className="tabular-nums">{String(one.count)}</span>
            {may && (
              <span className="whitespace-nowrap text-xs">
                {[true, false].map((has) => (
                  <button
                    key={String(has)}
                    type="button"
                    className="link touch ml-1"
                    aria-label={`${has ? "Only" : "Without"} ${field.attribute} ${String(one.value)}`}
                    onClick={() => asked.keep({ where: onlyWith(asked.where, field.attribute, one.value, has) })}
                  >
                    {has ? "only" : "without"}
                  </button>
                ))}
              </span>
            )}
          </li>
        ))}
        {field.others > 0 && <li className="px-1 text-ink-2">{String(field.others)} with other values</li>}
      </ul>
    </section>
  );
}
