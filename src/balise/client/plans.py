"""Plans."""

from __future__ import annotations

from balise.api.parts import PartShown
from balise.api.plans import Plan, PlanText
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Plans(Noun):
    """What to collect where, how often, and which limits differ."""

    def list(self) -> Items[Plan]:
        """All plans, from the general to the particular.

        >>> balise.plans.list()
        []
        """
        return self._connection.items(Plan, "/plans")

    def parts(self) -> Items[PartShown]:
        """The parts of a system that plans can switch, with what each costs.

        >>> "cpu" in [part.part for part in balise.plans.parts()]
        True
        """
        return self._connection.items(PartShown, "/plans/parts")

    def apply(self, name: str, text: str) -> Plan:
        """Keeps a plan as it is written, in YAML.

        >>> balise.plans.apply("all", "plan: all\\ncollect: {every: 30s}\\n").version
        1
        """
        return self._connection.send(Plan, "PUT", f"/plans/{quoted(name)}", PlanText(text=text))

    def delete(self, name: str) -> str:
        """Takes a plan away.

        >>> balise.plans.delete("all")
        'the plan all is gone; what it said no longer holds'
        """
        return self._connection.note("DELETE", f"/plans/{quoted(name)}")
