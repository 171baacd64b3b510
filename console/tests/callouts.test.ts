import { describe, expect, it } from "vitest";
import type { Incident } from "../src/api/client";
import { called, inOrder, standing, stateOf } from "../src/incidents/states";
import { BLANK_CALLOUT, calloutOf, formOf, stepWords, targetsOf, whom } from "../src/lib/calloutForm";
import { BLANK_CHANNEL, channelOf, placeOf } from "../src/lib/channelForm";
import { hoursText } from "../src/lib/hours";

describe("callouts", () => {
  it("go through the form and come out the same", () => {
    const callout = {
      name: "booking-at-night",
      when: 'severity ge "critical"',
      hours: { days: ["mon", "fri"] as ("mon" | "fri")[], from: "18:00", to: "08:00", zone: "Europe/Oslo" },
      steps: [
        { after: "0s", tell: ["rota:booking"] },
        { after: "10m", tell: ["rota:booking", "channel:control-room"] },
      ],
      tell: [],
      again: "2h",
      gather: "30s",
      digest: null,
    };
    const { name, ...body } = callout;
    expect(calloutOf(formOf({ ...callout, filter: null }))).toEqual(body);
    expect(stepWords(callout)).toEqual([
      ["at once", "whoever is on duty on the rota booking"],
      ["after 10m", "whoever is on duty on the rota booking, control-room"],
    ]);
    expect(name).toBe("booking-at-night");
  });
  it("that tell in one word have one step", () => {
    expect(stepWords({ tell: ["duty"], steps: [] })).toEqual([["at once", "duty"]]);
    expect(targetsOf("duty, person:anna,rota:quays , ")).toEqual(["channel:duty", "person:anna", "rota:quays"]);
    expect(whom("person:anna")).toBe("anna");
  });
  it("at all hours have none", () => {
    expect(calloutOf({ ...BLANK_CALLOUT, name: "n", tell0: "duty" })).toMatchObject({ hours: null, again: null });
  });
});

describe("hours", () => {
  it("are said in words", () => {
    const night = { from: "18:00", to: "08:00", zone: "UTC" };
    expect(hoursText({ ...night, days: ["mon", "tue", "wed", "thu", "fri"] })).toBe("18:00 to 08:00, mon to fri, UTC");
    expect(hoursText({ ...night, days: ["sun", "mon"] })).toBe("18:00 to 08:00, mon sun, UTC");
    expect(hoursText({ ...night, days: ["mon", "tue", "wed", "thu", "fri", "sat", "sun"] })).toContain("every day");
  });
});

describe("channels", () => {
  it("send what their kind has", () => {
    expect(channelOf({ ...BLANK_CHANNEL, kind: "syslog", server: "log" })).toMatchObject({ port: 514, server: "log" });
    const snmp = { ...BLANK_CHANNEL, kind: "snmp", server: "nms", secret: "s3cret-one", user: "balise" };
    expect(channelOf(snmp)).toMatchObject({
      version: "v3",
      user: "balise",
      authentication: "s3cret-one",
      privacy: null,
    });
    expect(channelOf({ ...snmp, version: "v2c" })).not.toHaveProperty("user");
    expect(channelOf({ ...BLANK_CHANNEL, kind: "command", arguments: "/bin/page -q" })).toMatchObject({
      arguments: ["/bin/page", "-q"],
    });
    expect(placeOf({ settings: { server: "nms", port: 162 } } as never)).toBe("nms:162");
  });
});

describe("incidents", () => {
  const incident = (over: Partial<Incident>): Incident =>
    ({
      severity: "warning",
      state: "open",
      practice: false,
      recovered_at: null,
      opened_at: "2026-11-23T03:00:00Z",
      ...over,
    }) as Incident;
  it("are called without whom they touch, where that is said beside", () => {
    const hurts = [{ application: "Booking", how: "critical", state: "critical" as const }];
    expect(called(incident({ title: "It is down on db-1, touches Booking, Office", hurts }))).toBe(
      "It is down on db-1",
    );
    expect(called(incident({ title: "Somebody touches it, touches nothing", hurts: [] }))).toContain("nothing");
  });
  it("stand as they are", () => {
    expect(stateOf(incident({ severity: "critical" }))).toBe("critical");
    expect(stateOf(incident({ practice: true, severity: "critical" }))).toBe("paused");
    expect(standing(incident({ recovered_at: "2026-11-23T03:10:00Z" }), 0)).toBe("recovered");
    expect(standing(incident({ snoozed_until_worse: true }), 0)).toBe("quiet until worse");
  });
  it("come the worst and oldest first, what is over and practice last", () => {
    const rows = [
      incident({ id: 1, practice: true, severity: "critical" }),
      incident({ id: 2, recovered_at: "2026-11-23T03:10:00Z", severity: "critical" }),
      incident({ id: 3 }),
      incident({ id: 4, severity: "critical", opened_at: "2026-11-23T03:05:00Z" }),
      incident({ id: 5, severity: "critical" }),
    ];
    expect(inOrder(rows).map((i) => i.id)).toEqual([5, 4, 3, 2, 1]);
  });
});
