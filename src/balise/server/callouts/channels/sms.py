"""Short messages, through a gateway that takes HTTP."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from balise.server.callouts.channels.channel import Channel, NotThrough, Sent
from balise.server.callouts.channels.http import bearer, post, without_path
from balise.server.callouts.channels.messages import for_template, line_of
from balise.server.callouts.channels.templates import BadTemplate, filled
from balise.store.state.tables import Delivery

LONGEST = 320
"""Characters of a message without its link: two short messages."""


class Sms(Channel):
    """Sends to each number by itself; those that did not take it are tried again alone."""

    kind = "sms"
    secret_names = ("bearer",)

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send."""
        content = for_template(delivery, self._outside)
        text = line_of(delivery)[:LONGEST]
        if delivery.incident is not None and delivery.kind != "recovered":
            text += f" {content['link']}"
        headers = {"Content-Type": f"{self._settings['content_type']}; charset=utf-8", "User-Agent": "balise"}
        if self._secrets.get("bearer"):
            headers |= bearer(self._secrets["bearer"])
        left: list[str] = []
        answers: list[str] = []
        problem: NotThrough | None = None
        for number in only or self._settings["to"]:
            try:
                body = filled(self._settings["template"], {**content, "to": number, "text": text})
                answers.append(f"{number}: {post(str(self._settings['url']), body.encode(), headers)}")
            except BadTemplate as error:
                raise NotThrough(f"the channel's template: {error}", alone=True) from None
            except NotThrough as error:
                left.append(number)
                problem = error
        if problem is not None and not answers:
            raise problem
        return Sent(left, "; ".join(answers))

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return (settings.get("url"),)

    @staticmethod
    def shown(settings: dict[str, Any]) -> dict[str, Any]:
        return {**settings, "url": without_path(settings["url"])}
