import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, got } from "../api/client";
import { useMay } from "../signin/session";
import { FormBox } from "./Form";
import { Failure } from "./Note";
import { useForm } from "./useForm";

/** The filters that have a name: one is chosen, the one that is typed is kept. */
export function SavedFilters({
  where,
  chosen,
  choose,
  take,
}: {
  where: string;
  chosen: string;
  choose: (name: string) => void;
  /** Where the text of a filter is taken over, instead of its name. */
  take?: (where: string) => void;
}) {
  const client = useQueryClient();
  const may = useMay("operator");
  const form = useForm({ name: "", about: "" });
  const filters = useQuery({ queryKey: ["filters"], queryFn: () => got(api.GET("/api/v1/filters")) });
  const after = () => client.invalidateQueries({ queryKey: ["filters"] });
  const keep = async () => {
    const { name, about } = form.values;
    await got(api.PUT("/api/v1/filters/{name}", { params: { path: { name } }, body: { where, about } }));
    form.reset();
    await after();
  };
  const remove = (name: string) =>
    form.send(async () => {
      await got(api.DELETE("/api/v1/filters/{name}", { params: { path: { name } } }));
      if (name === chosen) choose("");
      await after();
    });
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-sm font-normal">{chosen ? `Filter: ${chosen}` : "Filters"}</summary>
      <div className="dropdown-content z-20 mt-1 w-96 max-w-[90vw] rounded-box border border-base-300 bg-base-100 p-3 text-sm">
        {filters.data?.items.length === 0 && <p className="text-ink-2">No filter has a name yet.</p>}
        <ul>
          {filters.data?.items.map((one) => (
            <li key={one.name} className="flex items-start justify-between gap-2">
              <button
                type="button"
                className="touch grow py-1 text-left hover:underline"
                aria-pressed={one.name === chosen}
                onClick={() => (take ? take(one.where) : choose(one.name === chosen ? "" : one.name))}
              >
                <span className="font-semibold">{one.name}</span>
                {one.about && <span className="text-ink-2"> {one.about}</span>}
                <span className="block text-ink-2">{one.sentence}</span>
              </button>
              {may && (
                <button
                  type="button"
                  className="btn btn-ghost btn-xs"
                  aria-label={`Delete the filter ${one.name}`}
                  onClick={() => remove(one.name)}
                >
                  Delete
                </button>
              )}
            </li>
          ))}
        </ul>
        {may && where.trim() && (
          <FormBox form={form} send={keep} label="Keep this filter" className="mt-2 flex gap-2">
            <input
              className="input input-sm grow"
              aria-label="Name of the filter"
              placeholder="keep this filter as …"
              required
              value={form.values.name}
              onChange={(e) => form.set({ name: e.target.value })}
            />
            <button type="submit" className="btn btn-sm" disabled={form.busy}>
              Keep
            </button>
          </FormBox>
        )}
        {form.error !== undefined && <Failure error={form.error} />}
      </div>
    </details>
  );
}
