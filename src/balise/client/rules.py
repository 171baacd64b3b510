"""Rules."""

from __future__ import annotations

from balise.api.rules import Rehearsal, Rehearse, Rule, RuleBody
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

    def apply(self, name: str, body: RuleBody) -> Rule:
        """Keeps a rule, new or changed, and sets it to work at once.

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

    def rehearse(self, request: Rehearse) -> Rehearsal:
        """When a rule would have opened over stored history.

        >>> rule = RuleDocument.model_validate({"rule": "high-water", **body.model_dump()})
        >>> balise.rules.rehearse(Rehearse(rule=rule, from_="-10m")).groups
        1
        """
        return self._connection.send(Rehearsal, "POST", "/rules/rehearse", request)
