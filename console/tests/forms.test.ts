import { describe, expect, it } from "vitest";
import { BLANK_CHANNEL, channelOf } from "../src/lib/channelForm";
import { BLANK_CREDENTIAL, credentialOf, SHAPES } from "../src/lib/credentialForm";
import { agentKey, agentKeyOf, labelsOf } from "../src/lib/keyForm";
import { BLANK_LIST, listOf, partedList } from "../src/lib/listForm";
import { askedOf, BLANK_PROBE, PROBE_KINDS, probeOf } from "../src/lib/probeForm";
import { BLANK, isComplete, limitPlace, unitHint } from "../src/lib/ruleForm";
import { BLANK_TOKEN, tokenOf } from "../src/lib/tokenForm";

describe("a probe's form", () => {
  it("sends only what its kind can be asked for", () => {
    const typed = { ...BLANK_PROBE, target: " 192.0.2.17:25 ", text: "220", query: "select 1", value: "1", name: "x" };
    expect(probeOf({ ...typed, kind: "smtp" })).toMatchObject({
      target: "192.0.2.17:25",
      expect: { text: "220" },
      query: null,
    });
    expect(probeOf({ ...typed, kind: "postgresql" })).toMatchObject({
      query: "select 1",
      expect: { text: "220", value: "1" },
    });
    expect(probeOf({ ...typed, kind: "icmp" }).expect).toEqual({});
  });
  it("asks a name server for a name, at its usual port unless another is given", () => {
    const dns = { ...BLANK_PROBE, kind: "dns", name: "quay.test" };
    expect(probeOf({ ...dns, target: "192.0.2.53" }).target).toEqual({ address: "192.0.2.53", name: "quay.test" });
    expect(probeOf({ ...dns, target: "192.0.2.53:5353" }).target).toMatchObject({ port: 5353 });
  });
  it("knows of every kind what it asks", () => {
    expect(PROBE_KINDS.filter((kind) => askedOf(kind).query)).toEqual(["postgresql", "mariadb", "redis"]);
  });
});

describe("a list of hosts", () => {
  it("sends nothing for what was left empty", () => {
    expect(listOf({ ...BLANK_LIST, text: "a" })).toEqual({
      text: "a",
      protocol: "ssh",
      credential: null,
      group: null,
      site: null,
    });
  });
  it("leaves what could not be read in the box, under the heading of a CSV", () => {
    const problems = [
      { line: 2, lines: 2, text: "a,1\nb,2", problem: "2 lines have no credential" },
      { line: 5, lines: 1, text: "c,bad!", problem: "no address" },
    ];
    expect(partedList({ entries: [], problems, heading: "name,address" })).toEqual({
      good: 0,
      bad: 3,
      left: "name,address\na,1\nb,2\nc,bad!",
    });
    expect(partedList({ entries: [], problems: problems.slice(1), heading: "" }).left).toBe("c,bad!");
    expect(partedList({ entries: [], problems: [], heading: "name,address" }).left).toBe("");
  });
});

describe("settings", () => {
  it("keeps a secret that is not typed again", () => {
    expect(channelOf({ ...BLANK_CHANNEL, url: "https://x" })).toMatchObject({
      kind: "webhook",
      url: "https://x",
      bearer: null,
    });
    expect(channelOf({ ...BLANK_CHANNEL, kind: "email", to: "a@x.test, b@x.test" })).toMatchObject({
      to: ["a@x.test", "b@x.test"],
      port: 25,
      user: null,
    });
  });
  it.each(Object.keys(SHAPES))("fills in the credential of shape %s", (shape) => {
    const typed = { ...BLANK_CREDENTIAL, form: shape, user: "u", secret: "s", key: "k", groups: "a, b" };
    expect(credentialOf(typed)).toMatchObject({ role: "administrator", groups: ["a", "b"] });
  });
  it("asks for no privacy that was not typed", () => {
    const typed = { ...BLANK_CREDENTIAL, form: "snmp-3", user: "u", secret: "s" };
    expect(credentialOf(typed)).toMatchObject({ version: "3", privacy: null });
    expect(credentialOf({ ...typed, privacy: "p" })).toMatchObject({ privacy: { protocol: "AES-128", password: "p" } });
  });
  it("gives a scope only to a token that delivers", () => {
    expect(tokenOf({ ...BLANK_TOKEN, role: "viewer", name: "n" })).toEqual({ name: "n", role: "viewer" });
    expect(tokenOf({ ...BLANK_TOKEN, collected: "also" }).scope).toMatchObject({ new_hosts: 1000, collected: true });
  });
  it("makes a key for one server that is good for an hour", () => {
    expect(agentKeyOf({ ...agentKey(false), labels: "site=north role = x" })).toMatchObject({
      uses: 1,
      expires_in: "1h",
      group: null,
      labels: { site: "north" },
    });
    expect(labelsOf("a=b=c")).toEqual({ a: "b=c" });
  });
});

describe("a rule's form", () => {
  it("is rehearsed when it has a metric, a meaning and a limit", () => {
    expect(isComplete({ ...BLANK, metric: "m", about: "a" })).toBe(false);
    expect(isComplete({ ...BLANK, metric: "m", about: "a", critical: "1" })).toBe(true);
  });
  it("says problems of limits where they are typed", () => {
    expect([limitPlace("warning", ""), limitPlace("critical", "Hold")]).toEqual(["limits.warning", "critical.hold"]);
    expect([unitHint({ unit: "1" }), unitHint({ unit: "By" }), unitHint(undefined)]).toEqual([
      ": a share, so 0.9 is 90 %",
      ", By",
      "",
    ]);
  });
});
