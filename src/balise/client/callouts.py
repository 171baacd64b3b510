"""Who is told of what."""

from __future__ import annotations

from balise.api.callouts import Callout, CalloutBody, WhoAsked, WouldBeTold
from balise.api.deliveries import Delivery
from balise.api.drills import Drill, DrillStarted
from balise.api.persons import Person, PersonBody
from balise.api.responses import Response, ResponseBody
from balise.api.rotas import DutyStretch, OnDuty, RotaAnswer, RotaBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Callouts(Noun):
    """Who is told of what."""

    def list(self) -> Items[Callout]:
        """All callouts.

        >>> balise.callouts.list()
        []
        """
        return self._connection.items(Callout, "/callouts")

    def set(self, name: str, body: CalloutBody) -> Callout:
        """Keeps a callout, new or changed.

        >>> balise.callouts.set("Nights", CalloutBody(when='severity eq "critical"', tell=["duty"])).tell
        ['duty']
        """
        return self._connection.send(Callout, "PUT", f"/callouts/{quoted(name)}", body)

    def who(self, asked: WhoAsked) -> Items[WouldBeTold]:
        """Who would be told of what might happen, now or at another time, and why.

        >>> [told.channel for told in balise.callouts.who(WhoAsked(at="+8h"))]
        ['duty']
        """
        answer = self._connection.call("POST", "/callouts/who", asked)
        return [WouldBeTold.model_validate(item) for item in answer["items"]]

    def delete(self, name: str) -> str:
        """Takes a callout away.

        >>> balise.callouts.delete("Nights")
        'callout Nights deleted'
        """
        return self._connection.note("DELETE", f"/callouts/{quoted(name)}")


class Deliveries(Noun):
    """The record of what was told to whom."""

    def resend(self, number: int) -> Delivery:
        """Sends what was told once more.

        >>> balise.deliveries.resend(99)
        Traceback (most recent call last):
        balise.client.errors.Refused: There is no delivery 99.
        """
        return self._connection.send(Delivery, "POST", f"/deliveries/{number}/resend")

    def list(
        self,
        *,
        state: str | None = None,
        incident: int | None = None,
        channel: str | None = None,
        limit: int = 100,
    ) -> Items[Delivery]:
        """The newest deliveries.

        >>> balise.deliveries.list(state="given-up", limit=10)
        []
        """
        return self._connection.items(
            Delivery, "/deliveries", state=state, incident=incident, channel=channel, limit=limit
        )


class Drills(Noun):
    """Practice incidents, sent the real way."""

    def start(self, callout: str) -> int:
        """Begins one; answers its number.

        >>> balise.callouts.set("Days", CalloutBody(tell=["duty"])).name
        'Days'
        >>> balise.drills.start("Days")
        1
        """
        return self._connection.send(DrillStarted, "POST", f"/callouts/{quoted(callout)}/drill").id

    def show(self, number: int) -> Drill:
        """Who got it, how fast, and who answered.

        >>> balise.drills.show(1).callout
        'Days'
        """
        return self._connection.get(Drill, f"/drills/{number}")


class Persons(Noun):
    """People who can be told."""

    def set(self, name: str, body: PersonBody) -> Person:
        """Keeps somebody, new or changed.

        >>> balise.persons.set("anna", PersonBody(channels=["duty"])).channels
        ['duty']
        """
        return self._connection.send(Person, "PUT", f"/people/{quoted(name)}", body)

    def list(self) -> Items[Person]:
        """Everybody.

        >>> [person.name for person in balise.persons.list()]
        ['anna']
        """
        return self._connection.items(Person, "/people")

    def delete(self, name: str) -> str:
        """Takes somebody away.

        >>> balise.persons.delete("berit")
        Traceback (most recent call last):
        balise.client.errors.Refused: There is no person 'berit'.
        """
        return self._connection.note("DELETE", f"/people/{quoted(name)}")


class Rotas(Noun):
    """Who is on duty when."""

    def set(self, name: str, body: RotaBody) -> RotaAnswer:
        """Keeps a rota, new or changed.

        >>> weekly = RotaBody(people=["anna"], begins="2026-03-02", zone="Europe/Oslo")
        >>> balise.rotas.set("quays", weekly).on_duty
        'anna'
        """
        return self._connection.send(RotaAnswer, "PUT", f"/rotas/{quoted(name)}", body)

    def list(self) -> Items[RotaAnswer]:
        """All rotas.

        >>> [rota.name for rota in balise.rotas.list()]
        ['quays']
        """
        return self._connection.items(RotaAnswer, "/rotas")

    def show(self, name: str) -> RotaAnswer:
        """A rota, and who is on duty now.

        >>> balise.rotas.show("quays").turn
        '1w'
        """
        return self._connection.get(RotaAnswer, f"/rotas/{quoted(name)}")

    def calendar(self, name: str) -> str:
        """A rota as iCalendar.

        >>> balise.rotas.calendar("quays").splitlines()[0]
        'BEGIN:VCALENDAR'
        """
        return self._connection.text(f"/rotas/{quoted(name)}/calendar.ics")

    def on_duty(self, name: str, at: str = "now") -> OnDuty:
        """Who is on duty at a time, and until when.

        >>> balise.rotas.on_duty("quays", "2026-03-03T12:00:00Z").person
        'anna'
        """
        return self._connection.get(OnDuty, f"/rotas/{quoted(name)}/on-duty", at=at)

    def stretches(self, name: str, start: str = "now", end: str = "+28d") -> Items[DutyStretch]:
        """Who has which part of a span.

        >>> balise.rotas.stretches("quays", "2026-03-03T12:00:00Z", "2026-03-04T12:00:00Z")[0].person
        'anna'
        """
        return self._connection.items(DutyStretch, f"/rotas/{quoted(name)}/stretches", **{"from": start, "to": end})

    def delete(self, name: str) -> str:
        """Takes a rota away.

        >>> balise.rotas.delete("quays")
        'rota quays deleted'
        """
        return self._connection.note("DELETE", f"/rotas/{quoted(name)}")


class Responses(Noun):
    """What is done by itself when an incident opens, or is over."""

    def set(self, name: str, body: ResponseBody) -> Response:
        """Keeps a response, new or changed.

        >>> looking = ResponseBody.model_validate({"when": 'severity ge "critical"', "steps": [{"do": "capture"}]})
        >>> balise.responses.set("look", looking).at_most
        6
        """
        return self._connection.send(Response, "PUT", f"/responses/{quoted(name)}", body)

    def list(self) -> Items[Response]:
        """All responses.

        >>> [response.name for response in balise.responses.list()]
        ['look']
        """
        return self._connection.items(Response, "/responses")

    def delete(self, name: str) -> str:
        """Takes a response away.

        >>> balise.responses.delete("look")
        'response look deleted'
        """
        return self._connection.note("DELETE", f"/responses/{quoted(name)}")
