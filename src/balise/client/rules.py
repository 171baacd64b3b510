"""Rules."""

from __future__ import annotations

from collections.abc import Sequence

from balise.api.rules import (
    HostRule,
    Rehearsal,
    Rehearse,
    Restore,
    Rule,
    RuleBody,
    RuleChange,
    RuleDocument,
    RuleProblem,
    RuleRead,
    RulesChecked,
    RuleText,
    RuleVersion,
    Suggest,
    Suggestion,
)
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Rules(Noun):
    """What is watched, and its limits."""

    def list(self) -> Items[Rule]:
        """All rules.

        >>> "load-high" in [rule.name for rule in balise.rules.list()]
        True
        """
        return self._connection.items(Rule, "/rules")

    def show(self, name: str) -> Rule:
        """One rule.

        >>> balise.rules.show("load-high").enabled
        True
        """
        return self._connection.get(Rule, f"/rules/{quoted(name)}")

    def apply(self, name: str, body: RuleBody | RuleChange) -> Rule:
        """Keeps a rule, new or changed, and sets it to work at once; `why` of a RuleChange is kept with its version.

        >>> limits = {"critical": {"above": 4}}
        >>> body = RuleBody.model_validate(
        ...     {"about": "high water", "measure": {"metric": "tide", "take": "last"}, "limits": limits}
        ... )
        >>> balise.rules.apply("high-water", body).name
        'high-water'
        """
        return self._connection.send(Rule, "PUT", f"/rules/{quoted(name)}", body)

    def delete(self, name: str) -> str:
        """Takes a rule away; its open alerts end.

        >>> balise.rules.delete("swap-in-use")
        'rule swap-in-use deleted; its open alerts are ended'
        """
        return self._connection.note("DELETE", f"/rules/{quoted(name)}")

    def check(self, rules: Sequence[RuleDocument]) -> Items[RuleProblem]:
        """What is wrong with rules, looked at together, without keeping them.

        >>> ring = {"about": "x", "measure": {"alerts": 'rule eq "a"'}, "limits": {"warning": {"above": 1}}}
        >>> [problem.field for problem in balise.rules.check([RuleDocument.model_validate({"rule": "a", **ring})])]
        ['measure.alerts']
        """
        answer = self._connection.call("POST", "/rules/check", RulesChecked(rules=[*rules]))
        return [RuleProblem.model_validate(item) for item in answer["items"]]

    def read(self, text: str) -> RuleRead:
        """A rule from its text in YAML, or what is wrong with it, by line and column.

        >>> read = balise.rules.read("about: x\\nmeasure: {metric: load}\\nlimits: {warning: {over: 1}}")
        >>> [(slip.line, slip.field) for slip in read.problems]
        [(3, 'limits.warning.over')]
        """
        return RuleRead.model_validate(self._connection.call("POST", "/rules/read", RuleText(text=text)))

    def written(self, rule: RuleDocument) -> str:
        """A rule as a file has it.

        >>> read = balise.rules.read("{rule: a, about: x, measure: {metric: load}, limits: {warning: {above: 1}}}")
        >>> balise.rules.written(read.rule).splitlines()[0]
        'rule: a'
        """
        return RuleText.model_validate(self._connection.call("POST", "/rules/written", rule)).text

    def versions(self, name: str) -> Items[RuleVersion]:
        """Every form that a rule had, the newest first.

        >>> balise.rules.versions("load-high")[-1].what
        'shipped'
        """
        return self._connection.items(RuleVersion, f"/rules/{quoted(name)}/versions")

    def restore(self, name: str, body: Restore) -> Rule:
        """Puts a rule to work as it was in a version.

        >>> balise.rules.restore("load-high", Restore(version=1)).version
        2
        """
        return self._connection.send(Rule, "POST", f"/rules/{quoted(name)}/restore", body)

    def of_host(self, host: str) -> Items[HostRule]:
        """Every rule that watches a host, the nearest to breach first.

        >>> "high-water" in [one.rule for one in balise.rules.of_host("quay-a")]
        True
        """
        return self._connection.items(HostRule, f"/hosts/{quoted(host)}/rules")

    def suggest(self, request: Suggest) -> Suggestion:
        """Limits that would have opened seldom enough.

        >>> rule = RuleDocument.model_validate({"rule": "high-water", **body.model_dump()})
        >>> balise.rules.suggest(Suggest(rule=rule, from_="-10m")).would_open
        0
        """
        return self._connection.send(Suggestion, "POST", "/rules/suggest", request)

    def rehearse(self, request: Rehearse) -> Rehearsal:
        """When a rule would have opened over stored history.

        >>> rule = RuleDocument.model_validate({"rule": "high-water", **body.model_dump()})
        >>> balise.rules.rehearse(Rehearse(rule=rule, from_="-10m")).groups
        1
        """
        return self._connection.send(Rehearsal, "POST", "/rules/rehearse", request)
