"""Which alerts are one incident: by hand, and held to a plain model whatever the order in which they come."""

from __future__ import annotations

from collections.abc import Collection
from itertools import count, permutations

from hypothesis import given, settings
from hypothesis import strategies as st

from balise.core.incidents.around import Breached, Node
from balise.core.incidents.grouping import Grouping, Placed
from running import often

NEEDS: dict[str, list[str]] = {"web": ["app"], "app": ["db"], "db": [], "a": ["b"], "b": ["a"]}
MACHINES = {"db": "big", "x": "big"}


class World:
    """web needs app needs db, a and b need one another; db and x run on big; of `quiet` nothing is heard at all."""

    quiet = frozenset({("site", "northquay"), ("relay", "r1")})

    def needs(self, node: Node) -> Collection[Node]:
        found: list[Node] = []
        waiting = list(NEEDS.get(node[0], ()))
        while waiting:
            host = waiting.pop()
            if (host, "") not in found and host != node[0]:
                found.append((host, ""))
                waiting += NEEDS.get(host, ())
        return found

    def machine(self, host: str) -> str:
        return MACHINES.get(host, "")

    def all_silent(self, kind: str, name: str) -> bool:
        return (kind, name) in self.quiet


def grouping() -> Grouping:
    numbers = count(1)
    return Grouping(World(), lambda _alert: next(numbers))


def placed(*alerts: Breached) -> tuple[Grouping, list[Placed]]:
    made = grouping()
    return made, [made.place(alert) for alert in alerts]


def on(number: int, host: str, at: float = 0.0, **more: object) -> Breached:
    return Breached(number, str(more.pop("rule", f"r{number}")), at, host, **more)  # type: ignore[arg-type]


def test_what_needs_something_is_held_under_it_in_whatever_order_they_come() -> None:
    for order in permutations([on(1, "web"), on(2, "app"), on(3, "db")]):
        made, _ = placed(*order)
        assert {made.incident_of(n) for n in (1, 2, 3)} == {1}
        assert (made.held_under(1), made.held_under(2), made.held_under(3)) == (3, 3, None)


def test_the_reason_is_said() -> None:
    _, (first, second, third) = placed(on(1, "app"), on(2, "web"), on(3, "db"))
    assert first == Placed(1, True, "nothing else is wrong near it")
    assert (second.held_under, second.why_held) == (1, "web needs app")
    assert third.held == {1: "app needs db", 2: "web needs db"} and not third.is_new


def test_a_second_alert_of_the_cause_takes_nothing_from_the_first() -> None:
    made, (_, _, third) = placed(on(1, "db"), on(2, "app"), on(3, "db"))
    assert made.held_under(2) == 1 and third.held == {} and made.held_under(3) is None


def test_of_those_that_need_one_another_one_is_the_cause() -> None:
    made, _ = placed(on(1, "a"), on(2, "b"))
    assert (made.held_under(1), made.held_under(2)) == (None, 1)


def test_what_runs_on_a_host_is_held_under_it() -> None:
    made, (_, second, third) = placed(on(1, "x"), on(2, "big"), on(3, "db"))
    assert second.held == {1: "x runs on big"} and third.why_held == "db runs on big"
    assert made.members(1) == {1, 2, 3}


def test_a_silent_host_holds_what_else_is_wrong_on_it_and_a_silent_site_is_one_thing() -> None:
    made, _ = placed(on(1, "p", silence=True), on(2, "p"))
    assert made.held_under(2) == 1
    # A probe of it is held whichever was noticed first; a full disk from before may be why it is silent.
    for silent, probe, other in ((1, 2, 3), (3, 1, 2)):
        alerts = {
            silent: on(silent, "p", rule="silent", silence=True),
            probe: on(probe, "p", rule="probe", probe="p"),
            other: on(other, "p", rule="disk"),
        }
        made, _ = placed(*[alerts[n] for n in sorted(alerts)])
        assert made.held_under(probe) == silent and made.held_under(silent) is None
        assert made.held_under(other) == (silent if silent < other else None)
    quiet = [on(n, f"g{n}", rule="silent", silence=True, site="northquay") for n in range(1, 4)]
    made, all_placed = placed(*quiet)
    assert made.members(1) == {1, 2, 3} and [made.held_under(n) for n in (1, 2, 3)] == [None, 1, 1]
    assert all_placed[1].why_held == "nothing is heard of the whole site northquay"
    made, _ = placed(*[on(n, f"g{n}", rule="silent", silence=True, site="southquay") for n in range(1, 3)])
    assert made.incident_of(1) != made.incident_of(2)


def test_what_is_joined_by_hand_is_held_under_its_cause_again() -> None:
    """Worked by hand: web needs app, app needs db; all three are parted, and joined the other way round."""
    made, _ = placed(on(1, "db"), on(2, "app"), on(3, "web"))
    assert [made.held_under(n) for n in (1, 2, 3)] == [None, 1, 1]
    made.part(1, 7, [1])
    made.part(1, 8, [3])
    assert [made.held_under(n) for n in (1, 2, 3)] == [None, None, None]
    made.join(8, 1)
    assert made.hold_again(8) == {3: (2, "web needs app")}
    made.join(8, 7)
    assert made.hold_again(8) == {2: (1, "app needs db")}
    assert [made.held_under(n) for n in (1, 2, 3)] == [None, 1, 2] and made.hold_again(8) == {}


def test_one_rule_on_many_hosts_at_once_is_one_thing_and_joins_what_was_there() -> None:
    made, all_placed = placed(*[on(n, f"p{n}", at=n * 10.0, rule="load") for n in range(1, 5)])
    assert [one.incident for one in all_placed] == [1, 2, 1, 1] and all_placed[2].joined == (2,)
    assert made.members(1) == {1, 2, 3, 4} and made.members(2) == set()
    made, _ = placed(*[on(n, f"p{n}", at=n * 100.0, rule="load") for n in range(1, 5)])
    assert len({made.incident_of(n) for n in range(1, 5)}) == 4


def test_a_probe_that_fails_from_several_places_is_one_thing() -> None:
    made, _ = placed(on(1, "p", probe="tide"), on(2, "q", probe="tide"), on(3, "r", probe="other"))
    assert made.members(1) == {1, 2} and made.held_under(2) == 1


def test_the_window_grows_with_the_incident_up_to_a_bound() -> None:
    """Five minutes at first; half of how long it has gone on; half an hour at the most."""
    made, _ = placed(on(1, "p"), on(2, "p", at=301.0))
    assert made.incident_of(2) != made.incident_of(1)
    five = [on(n, "p", at=290.0 * (n - 1)) for n in range(1, 6)]
    made, _ = placed(*five, on(6, "p", at=290.0 * 4 + 700))
    assert made.incident_of(6) == 1
    many = [on(n, "p", at=290.0 * n) for n in range(100)]
    made, _ = placed(*many, on(200, "p", at=290.0 * 99 + 1801))
    assert made.incident_of(200) != 1


def test_what_is_over_for_good_draws_nothing_in() -> None:
    made, _ = placed(on(1, "db"), on(2, "app"))
    for number in (1, 2):
        made.leave(number)
    assert made.members(1) == set() and made.place(on(3, "web")).incident == 2


WHERE = ["web", "app", "db", "big", "x", "p", "q"]
ALERTS = st.lists(
    st.builds(
        lambda host, rule, probe, silence, site: (host, rule, probe, silence, site),
        st.sampled_from(WHERE),
        st.sampled_from(["load", "full", "slow"]),
        st.sampled_from(["", "", "", "tide"]),
        st.booleans(),
        st.sampled_from(["", "northquay", "southquay"]),
    ),
    min_size=1,
    max_size=9,
)


def together(one: Breached, other: Breached, world: World) -> bool:
    """Whether two alerts belong together by themselves, in plain words."""
    if one.host == other.host or (one.probe and one.probe == other.probe):
        return True
    nodes = (one.node, other.node)
    if any(b in world.needs(a) for a, b in (nodes, nodes[::-1])):
        return True
    if world.machine(one.host) == other.host or world.machine(other.host) == one.host:
        return True
    whole = one.site == other.site and world.all_silent("site", one.site)
    return one.silence and other.silence and whole


@settings(max_examples=often(300), deadline=None)
@given(ALERTS, st.randoms(use_true_random=False))
def test_the_same_alerts_are_the_same_incidents_in_any_order(
    said: list[tuple[str, str, str, bool, str]], rng: object
) -> None:
    alerts = [
        Breached(n, rule, float(n), host, probe=probe, silence=silence, site=site)
        for n, (host, rule, probe, silence, site) in enumerate(said, 1)
    ]
    world = World()
    group = {alert.number: alert.number for alert in alerts}

    def root(number: int) -> int:
        while group[number] != number:
            number = group[number]
        return number

    for one in alerts:
        for other in alerts:
            if together(one, other, world):
                group[root(one.number)] = root(other.number)
    for rule in {alert.rule for alert in alerts}:
        mine = [alert for alert in alerts if alert.rule == rule]
        if len({alert.host for alert in mine}) >= 3:
            for alert in mine:
                group[root(alert.number)] = root(mine[0].number)
    wanted = {frozenset(a.number for a in alerts if root(a.number) == root(b.number)) for b in alerts}
    rng.shuffle(alerts)  # type: ignore[attr-defined]
    made = grouping()
    for alert in alerts:
        made.place(alert)
    assert {frozenset(made.members(made.incident_of(a.number) or 0)) for a in alerts} == wanted
    for alert in alerts:
        # Following the causes always ends, within the incident, with one that has none.
        seen, at = set(), alert.number
        while (above := made.held_under(at)) is not None:
            assert above not in seen and made.incident_of(above) == made.incident_of(alert.number)
            seen.add(above)
            at = above


def test_a_storm_of_one_rule_is_one_incident() -> None:
    made, _ = placed(*[on(n, f"s{n}", at=n / 1000, rule="load") for n in range(1, 10_001)])
    assert len(made.members(1)) == 10_000
