"""Callouts as text: written and read again, and the place of every slip."""

from __future__ import annotations

from balise.api.callouts import CalloutDocument
from balise.core.callouts.text import callout_text, read_callout

ISSUED = """\
callout: booking-at-night
when: severity ge "critical" and application eq "Booking"
hours:
  days:
  - mon
  - fri
  from: '18:00'
  to: 08:00
  zone: Europe/Oslo
steps:
- tell:
  - rota:booking
- after: 10m
  tell:
  - rota:booking
  - channel:control-room
again: 2h
gather: 30s
"""


def test_what_is_written_is_read_again_as_it_was() -> None:
    read = read_callout(ISSUED)
    assert read.problems == [] and read.callout is not None
    assert read.callout.steps[1].tell == ["rota:booking", "channel:control-room"]
    assert callout_text(read.callout) == ISSUED
    short = CalloutDocument(callout="all", when="", tell=["room"])
    assert callout_text(short) == "callout: all\nwhen: ''\ntell:\n- room\n"


def test_each_slip_is_told_with_its_place() -> None:
    def slips(text: str) -> list[tuple[int, int, str]]:
        return [(slip.line, slip.column, slip.field) for slip in read_callout(text).problems]

    assert slips(ISSUED.replace("ge", "=>")) == [(2, 1, "when")]
    assert slips(ISSUED.replace("again: 2h", "agian: 2h")) == [(17, 1, "agian")]
    assert slips(ISSUED.replace("- rota:booking\n-", "- the-rota\n-")) == [(12, 5, "steps.0.tell.0")]
    assert slips("callout: x\nsteps: [}") == [(2, 9, "")]
    assert slips("&a [*a]")[0][0] == 1
