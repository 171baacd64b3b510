import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { api, type Group, got } from "../api/client";
import { quoted } from "../lib/filterText";
import { plural } from "../lib/format";
import { useMay } from "../signin/session";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { Empty, Failure, Waiting } from "../ui/Note";
import { StateWord } from "../ui/Signal";
import { useForm } from "../ui/useForm";
import { WhereField } from "../ui/WhereField";
import { Line, Listing } from "./parts";

const EMPTY = { name: "", kind: "group" as Group["kind"], parent: "", where: "" };

export function Component() {
  const client = useQueryClient();
  const may = useMay("operator");
  const groups = useQuery({ queryKey: ["groups", "all"], queryFn: () => got(api.GET("/api/v1/groups")) });
  const form = useForm(EMPTY);
  const [error, setError] = useState<unknown>();
  const again = () => client.invalidateQueries({ queryKey: ["groups"] });
  const keep = async () => {
    const { name, kind, parent, where } = form.values;
    const body = { kind, parent: parent || null, where: where || null, about: "" };
    await got(api.PUT("/api/v1/groups/{name}", { params: { path: { name } }, body }));
    form.reset();
    await again();
  };
  if (groups.isError) return <Failure error={groups.error} />;
  if (!groups.data) return <Waiting what="the groups" />;
  const items = nested(groups.data.items);
  return (
    <>
      {may && (
        <RowForm
          form={form}
          send={keep}
          label="Keep the group"
          note="Hosts are listed from the fleet's table, chosen by a filter, or both."
        >
          <TextField name="name" label="Name" width="w-44" required />
          <ChoiceField name="kind" label="Kind" width="w-24" options={["group", "site"]} />
          <ChoiceField
            name="parent"
            label="Within"
            width="w-40"
            options={[["", "none"], ...items.map((i) => i.group.name).filter((n) => n !== form.values.name)]}
          />
          <WhereField
            name="where"
            label="Chosen by the filter"
            width="w-[36rem]"
            placeholder='label.role eq "gate-controller"'
          />
        </RowForm>
      )}
      {may && form.values.where.trim() && <Preview where={form.values.where} />}
      {error !== undefined && <Failure error={error} />}
      {items.length === 0 ? (
        <Empty title="No groups yet">
          A group is a set of hosts: a site, an application, whatever belongs together.
        </Empty>
      ) : (
        <Listing columns={["group", "kind", "state", "hosts", "chosen by", ""]}>
          {items.map(({ group, depth }) => (
            <Line
              key={group.name}
              cells={[
                <Link
                  key="name"
                  className="font-semibold hover:underline"
                  style={{ paddingLeft: depth * 18 }}
                  to={`/fleet?where=${encodeURIComponent(`group eq ${quoted(group.name)}`)}`}
                >
                  {group.name}
                </Link>,
                group.kind,
                <StateWord key="state" state={group.state} />,
                `${group.hosts}${group.where ? `, ${group.listed ?? 0} of them listed` : ""}`,
                group.where ? <code key="where">{group.where}</code> : "its list",
              ]}
              action={
                may && (
                  <>
                    <button
                      type="button"
                      className="btn btn-ghost btn-xs"
                      onClick={() =>
                        form.set({
                          name: group.name,
                          kind: group.kind,
                          parent: group.parent ?? "",
                          where: group.where ?? "",
                        })
                      }
                    >
                      Change
                    </button>
                    <button
                      type="button"
                      className="btn btn-ghost btn-xs"
                      onClick={() => {
                        if (!window.confirm(`Take the group ${group.name} away? Its hosts stay.`)) return;
                        setError(undefined);
                        got(api.DELETE("/api/v1/groups/{name}", { params: { path: { name: group.name } } }))
                          .then(again)
                          .catch(setError);
                      }}
                    >
                      Delete
                    </button>
                  </>
                )
              }
            />
          ))}
        </Listing>
      )}
    </>
  );
}

/** Groups below those they are within, with how deep each is. */
export function nested(groups: Group[]): { group: Group; depth: number }[] {
  const out: { group: Group; depth: number }[] = [];
  const below = (parent: string | null, depth: number) => {
    for (const group of groups) {
      if ((group.parent ?? null) === parent && depth < 20) {
        out.push({ group, depth });
        below(group.name, depth + 1);
      }
    }
  };
  below(null, 0);
  return out;
}

/** What a filter would choose, while it is typed. */
function Preview({ where }: { where: string }) {
  const [asked, setAsked] = useState(where);
  useEffect(() => {
    const timer = setTimeout(() => setAsked(where), 350);
    return () => clearTimeout(timer);
  }, [where]);
  const match = useQuery({
    queryKey: ["groups", "preview", asked],
    queryFn: () => got(api.POST("/api/v1/groups/preview", { body: { where: asked } })),
    retry: false,
  });
  return (
    <p className="mb-4 font-dense text-sm" role="status">
      {match.isError ? (
        <span className="text-state-warning">{match.error.message}</span>
      ) : match.data ? (
        <>
          <span className="font-semibold">It chooses {plural(match.data.count, "host")}</span>
          {match.data.count > 0 &&
            `: ${match.data.hosts.join(", ")}${match.data.count > match.data.hosts.length ? " …" : ""}`}
        </>
      ) : (
        "looking …"
      )}
    </p>
  );
}
