"""Mail over SMTP."""

from __future__ import annotations

import logging
import smtplib
import socket
import ssl
from collections.abc import Callable, Sequence
from email.message import EmailMessage
from typing import Any

from balise.server.callouts.channels.channel import TIME_LIMIT, Channel, NotThrough, Sent
from balise.server.callouts.channels.mail import compose
from balise.server.callouts.channels.places import checked_address, in_our_words
from balise.server.callouts.channels.trust import trusted
from balise.store.state.tables import Delivery

log = logging.getLogger(__name__)
Refusals = dict[str, tuple[int, bytes]]


class Email(Channel):
    """Sends to all addresses that have not taken it yet.

    An address that is refused for good is not tried again, as long as others take it.
    """

    kind = "email"
    secret_names = ("password",)

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send."""
        message = compose(self._settings, delivery, self._outside)
        refused = _in_words(lambda: self._handed_over(message, only), only)
        for address, (code, _) in refused.items():
            log.warning("delivery=%d channel=%s refused by %s: %d", delivery.id, delivery.channel, address, code)
        return Sent([address for address, (code, _) in refused.items() if code < 500], "250")

    def _handed_over(self, message: EmailMessage, only: Sequence[str] | None) -> Refusals:
        """Gives it to the mail server; answers the addresses that were refused."""
        settings = self._settings
        with self._server() as server:
            if settings["security"] == "starttls":
                server.starttls(context=trusted())
            if settings.get("user"):
                server.login(settings["user"], self._secrets.get("password", ""))
            return server.send_message(message, to_addrs=list(only or settings["to"]))

    def _server(self) -> smtplib.SMTP:
        server, port = self._settings["server"], self._settings["port"]
        if self._settings["security"] == "tls":
            return _MailOverTls(server, port, timeout=TIME_LIMIT, context=trusted())
        return _Mail(server, port, timeout=TIME_LIMIT)

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return settings.get("server"), settings.get("port"), settings.get("user")


def _in_words(send: Callable[[], Refusals], only: Sequence[str] | None) -> Refusals:
    """What sending answers. Raises NotThrough, in words for people, when the server took it for no address."""
    try:
        return send()
    except ValueError:
        raise NotThrough("the channel's addresses, user or password have characters that mail cannot carry") from None
    except smtplib.SMTPAuthenticationError:
        raise NotThrough("the mail server refuses the user or the password") from None
    except smtplib.SMTPNotSupportedError:
        raise NotThrough("the mail server cannot do that: check the channel's security and user") from None
    except ssl.SSLError as error:
        raise NotThrough(f"the mail server's TLS is not trusted: {error.reason}") from None
    except smtplib.SMTPRecipientsRefused as error:
        said = "; ".join(f"{to}: {code}" for to, (code, _) in error.recipients.items())
        # Those who were left out before have had their answer: what is left is refused for good now, or is not.
        final = only is not None and all(code >= 500 for code, _ in error.recipients.values())
        raise NotThrough(f"the mail server refuses {said}", alone=only is not None, final=final) from None
    except smtplib.SMTPDataError as error:
        raise NotThrough(f"the mail server did not take it: {error.smtp_code}", alone=True) from None
    except (smtplib.SMTPException, OSError) as error:
        code = getattr(error, "smtp_code", None)
        raise NotThrough(f"the mail server did not take it: {code or in_our_words(error)}") from None


class _Mail(smtplib.SMTP):
    """Connects to the checked address while the certificate is that of the name."""

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        made: socket.socket = super()._get_socket(checked_address(host, port), port, timeout)  # type: ignore[misc]
        return made


class _MailOverTls(smtplib.SMTP_SSL, _Mail):
    """The same from the first byte on in TLS."""
