"""The kinds of channels that there are."""

from __future__ import annotations

from balise.server.callouts.channels.channel import Channel
from balise.server.callouts.channels.command import Command
from balise.server.callouts.channels.email import Email
from balise.server.callouts.channels.sms import Sms
from balise.server.callouts.channels.snmp import Snmp
from balise.server.callouts.channels.syslog import Syslog
from balise.server.callouts.channels.webhook import Webhook

CHANNELS: dict[str, type[Channel]] = {channel.kind: channel for channel in (Webhook, Email, Syslog, Snmp, Sms, Command)}
