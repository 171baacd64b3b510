const ALWAYS = [
  ["", "not grouped"],
  ["site", "by site"],
  ["group", "by group"],
  ["application", "by application"],
  ["os", "by system"],
  ["fact.agent_version", "by agent version"],
  ["kit.linux", "by version of the kit linux"],
] as const;

/** By what the fleet is put together. */
export function GroupBy({ by, labels, choose }: { by: string; labels: string[]; choose: (by: string) => void }) {
  const choices: (readonly [string, string])[] = [
    ...ALWAYS,
    ...labels.filter((one) => one !== "site").map((one) => [`label.${one}`, `by label ${one}`] as const),
  ];
  if (!choices.some(([one]) => one === by)) choices.push([by, `by ${by}`]);
  return (
    <select
      aria-label="Grouped"
      className="select select-sm w-36 font-normal"
      value={by}
      onChange={(e) => choose(e.target.value)}
    >
      {choices.map(([one, name]) => (
        <option key={one} value={one}>
          {name}
        </option>
      ))}
    </select>
  );
}
