import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { quoted } from "../lib/filterText";
import { duration, moment, withUnit } from "../lib/format";
import { instant } from "../lib/span";
import { Empty, Failure, Waiting } from "../ui/Note";
import { BusyRow, BusyTable, type Heading } from "./BusyTable";
import { has, type Shared } from "./Processes";

const HEADINGS: Heading[] = [
  { name: "who" },
  { name: "signed in", wide: true },
  { name: "for", right: true },
  { name: "processor", right: true },
  { name: "memory", right: true, wide: true },
  { name: "leads to" },
];

/** Who was signed in to the host at any moment of the span. */
export function BusyPeople({ host, span, text }: Shared) {
  const answer = useQuery({
    queryKey: ["evidence", host, span.start, span.end],
    queryFn: () =>
      got(
        api.GET("/api/v1/hosts/{name}/evidence", {
          params: { path: { name: host }, query: { from: instant(span.start), to: instant(span.end) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (answer.isError) return <Failure error={answer.error} again={() => void answer.refetch()} />;
  if (!answer.data) return <Waiting what={`who was signed in to ${host}`} lines={4} />;
  const people = answer.data.signed_in.filter((one) => has(text, one.user, one.terminal, one.origin));
  if (!answer.data.signed_in.length) return <Empty title="Nobody was seen signed in during this span." />;
  const ends = { from: String(Math.floor(span.start)), to: String(Math.ceil(span.end)) };
  return (
    <BusyTable label={`Signed in to ${host}`} headings={HEADINGS}>
      {people.map((one) => (
        <BusyRow
          key={`${one.user} ${one.terminal} ${Math.round((one.at - one.seconds) / 60)}`}
          headings={HEADINGS}
          cells={[
            <span key="who">
              <span className="font-semibold">{one.user}</span>{" "}
              <span className="text-ink-2">
                {one.terminal}
                {one.origin && `, from ${one.origin}`}
              </span>
            </span>,
            moment(one.at - one.seconds, span.end),
            duration(one.seconds),
            `${(one.cpu * 100).toFixed(1)} % of a core`,
            withUnit(one.memory, "By"),
            <span key="leads" className="flex flex-wrap gap-x-3">
              <Link className="link touch" to={`?${new URLSearchParams({ of: "process", text: one.user, ...ends })}`}>
                processes
              </Link>
              <Link
                className="link touch"
                to={`/events/sign-ins?${new URLSearchParams({ where: `host eq ${quoted(host)}`, ...ends })}`}
              >
                sign-ins
              </Link>
            </span>,
          ]}
        />
      ))}
    </BusyTable>
  );
}
