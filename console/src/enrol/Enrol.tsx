import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, got } from "../api/client";
import { type AgentKeyForm, agentKey, agentKeyOf, TIMES } from "../lib/keyForm";
import { useAddress } from "../lib/useAddress";
import { Once } from "../settings/parts";
import { useMay } from "../signin/session";
import { ChoiceField, RowForm, TextField } from "../ui/Form";
import { useForm } from "../ui/useForm";
import { Lists } from "./Lists";
import { NewList } from "./NewList";
import { Waiting } from "./Waiting";

const WAYS = [
  {
    key: "one",
    name: "One server",
    about: "You can run one command on it. An agent collects there and only ever connects out.",
  },
  {
    key: "many",
    name: "Many servers, each runs a command",
    about: "One key for all of them, by your configuration tool or an image. It ends by uses and by time.",
  },
  {
    key: "list",
    name: "A list of addresses, no agent",
    about: "This console, or a relay at their site, reads them over SSH or SNMP. Each is tested before it is added.",
  },
  {
    key: "site",
    name: "A site that cannot reach this console",
    about: "A relay there buffers for its agents through outages, and reads near hosts and devices.",
  },
] as const;

/** Begins with how many and from where; the rest of the page answers for that choice. */
export function Component() {
  const [parameters, change] = useAddress();
  const way = parameters.get("way") ?? "";
  const may = useMay("operator");
  return (
    <>
      <h1 className="mb-2 font-semibold text-xl">Enrol hosts</h1>
      <fieldset className="mb-5">
        <legend className="mb-1 text-ink-2">How many, and from where?</legend>
        <div className="grid max-w-5xl grid-cols-2 gap-x-6 gap-y-1">
          {WAYS.map((w) => (
            <label
              key={w.key}
              className={`flex cursor-pointer items-baseline gap-2 border-l-3 py-1.5 pl-2 ${way === w.key ? "border-primary bg-base-200" : "border-base-300"}`}
            >
              <input
                type="radio"
                name="way"
                className="radio radio-xs"
                checked={way === w.key}
                onChange={() => change({ way: w.key }, true)}
              />
              <span>
                <span className="font-semibold">{w.name}</span>
                <span className="block text-ink-2 text-sm">{w.about}</span>
              </span>
            </label>
          ))}
        </div>
      </fieldset>
      {!may && <p className="text-ink-2">You may look here; an operator or administrator enrols.</p>}
      {may && (way === "one" || way === "many") && <WithAgent key={way} many={way === "many"} />}
      {may && way === "list" && <NewList />}
      {may && way === "site" && <Relay />}
      {may && <Waiting />}
      {may && <Lists />}
    </>
  );
}

function useGroupNames() {
  return useQuery({ queryKey: ["groups", "names"], queryFn: () => got(api.GET("/api/v1/groups")), staleTime: 60_000 });
}

/** A key, and what to run with it. */
function WithAgent({ many }: { many: boolean }) {
  const administrator = useMay("administrator");
  const groups = useGroupNames();
  const form = useForm<AgentKeyForm>(agentKey(many));
  const [command, setCommand] = useState<string>();
  if (!administrator) return <p className="text-ink-2">Keys are made by administrators: ask one for a key.</p>;
  const make = async () => {
    const answer = await got(api.POST("/api/v1/enrolment-keys", { body: agentKeyOf(form.values) }));
    setCommand(answer.command);
  };
  return (
    <section aria-label="With an agent" className="mb-6">
      <RowForm form={form} send={make} label="Make the command">
        <TextField name="label" label="Label of the key" width="w-48" required placeholder="gates at southquay" />
        {many && <TextField name="uses" label="For how many servers" type="number" min={1} max={100000} width="w-28" />}
        <ChoiceField name="expires" label="Good for" place="expires_in" width="w-28" options={TIMES} />
        <TextField name="group" label="They join the group" width="w-40" list="group-names" placeholder="none" />
        <TextField name="labels" label="Labels" width="w-48" placeholder="site=northquay role=gate" />
        <ChoiceField
          name="approval"
          label="Approval"
          width="w-52"
          options={[
            ["automatic", "let in at once"],
            ["manual", "somebody lets each in"],
          ]}
        />
      </RowForm>
      <datalist id="group-names">
        {groups.data?.items.map((g) => (
          <option key={g.name} value={g.name} />
        ))}
      </datalist>
      {command && (
        <>
          <Once
            title={many ? "Run this on each server, as root:" : "Run this on the server, as root:"}
            text={command}
            done={() => setCommand(undefined)}
          />
          <Steps command={command} />
        </>
      )}
    </section>
  );
}

function Steps({ command }: { command: string }) {
  const rest = command.replace("balise agent enrol ", "");
  const steps = [
    [
      "All in one, from the folder that make agent builds: no Python and no internet needed",
      `sh agent/install agent ${rest}`,
    ],
    ["The same from the folder of make wheels, where there is Python 3.11", `sh wheels/install agent ${rest}`],
    ["What works from there, without using the key up", `balise agent check ${rest}`],
    [
      "Start it with the system",
      "balise agent unit > /etc/systemd/system/balise-agent.service && systemctl enable --now balise-agent",
    ],
  ] as const;
  return (
    <dl className="mb-4 max-w-5xl text-sm">
      {steps.map(([name, text]) => (
        <div key={name} className="mb-1.5">
          <dt className="text-ink-2">{name}</dt>
          <dd>
            <code className="select-all break-all">{text}</code>
          </dd>
        </div>
      ))}
    </dl>
  );
}

function Relay() {
  const administrator = useMay("administrator");
  const form = useForm({ site: "" });
  const [command, setCommand] = useState<string>();
  if (!administrator) return <p className="text-ink-2">Relays are enrolled by administrators: ask one.</p>;
  const make = async () => {
    const { site } = form.values;
    const body = {
      label: `relay at ${site}`,
      site,
      uses: 1,
      expires_in: "24h",
      labels: {},
      approval: "automatic" as const,
    };
    const answer = await got(api.POST("/api/v1/enrolment-keys", { body }));
    setCommand(`${answer.command.replace("balise agent", "balise relay")} --site ${site}`);
  };
  return (
    <section aria-label="A relay" className="mb-6">
      <RowForm
        form={form}
        send={make}
        label="Make the command"
        note="Two relays at one site take over from each other when one is gone for a minute. How they do is in Settings, Relays."
      >
        <TextField name="site" label="Site" width="w-48" required placeholder="southquay" />
      </RowForm>
      {command && (
        <>
          <Once title="Run this on a machine at the site:" text={command} done={() => setCommand(undefined)} />
          <p className="mb-3 max-w-4xl text-sm">
            Then <code>balise relay run --listen ADDRESS:8809</code>. Agents at the site enrol with{" "}
            <code>--console http://ADDRESS:8809</code>; hosts without an agent are added by{" "}
            <Link className="link" to="/enrol?way=list">
              a list
            </Link>{" "}
            that names this site.
          </p>
        </>
      )}
    </section>
  );
}
