"""Ways to reach people."""

from __future__ import annotations

from balise.api.channels import Channel, ChannelBody, Preview, Previewed
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Channels(Noun):
    """Ways to reach people."""

    def list(self) -> Items[Channel]:
        """All channels.

        >>> [channel.name for channel in balise.channels.list()]
        ['duty']
        """
        return self._connection.items(Channel, "/channels")

    def set(self, name: str, body: ChannelBody) -> Channel:
        """Keeps a channel, new or changed.

        >>> balise.channels.set("pager", WebhookChannel(kind="webhook", url="http://127.0.0.1:9/")).kind
        'webhook'
        """
        return self._connection.send(Channel, "PUT", f"/channels/{quoted(name)}", body)

    def test(self, name: str) -> str:
        """Sends a test at once.

        >>> balise.channels.test("pager")
        Traceback (most recent call last):
        balise.client.errors.Refused: The test did not get through: cannot be reached: Connection refused.
        """
        return self._connection.note("POST", f"/channels/{quoted(name)}/test")

    def preview(self, asked: Preview) -> str:
        """What a template makes of a real incident, the newest unless said.

        >>> balise.channels.preview(Preview(template="{{ title }}", incident=1))
        'high water on quay-a'
        """
        return self._connection.send(Previewed, "POST", "/channels/preview", asked).body

    def delete(self, name: str) -> str:
        """Takes a channel away.

        >>> balise.channels.delete("pager")
        'channel pager deleted'
        """
        return self._connection.note("DELETE", f"/channels/{quoted(name)}")
