"""The forms of bodies that are known, whoever sends them.

The bytes of a group after its resource are looked up whole; what was not seen like this is looked up metric by metric,
and only a metric that nobody has sent like this is walked.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Hashable
from dataclasses import replace
from typing import Generic, TypeVar
from weakref import WeakValueDictionary

from balise.core.series.forms import GroupForm, MetricForm, form_of, metric_form_of
from balise.core.series.kin import Kin
from balise.core.series.shapes import Shape

ALIKE = 4
"""Forms of one length, of metrics of one name, that are told apart."""
MOST_KIN = 64
"""Lengths of bytes of which the last that was read is held against what comes."""
SHARE = 8
"""Of the room for forms one sender may take so much less."""
F = TypeVar("F", MetricForm, GroupForm)
_Place = tuple[int, bytes]


class FormBook:
    """All forms that are known, within `capacity` bytes of each kind. Safe to use from several threads."""

    def __init__(self, *, capacity: int) -> None:
        self.groups = _Held[GroupForm](capacity)
        self.metrics = _Held[MetricForm](capacity)
        self._lock = threading.Lock()
        self._kin: OrderedDict[int, Kin] = OrderedDict()
        """By length, the last that was read."""
        self._kin_bytes = capacity // 4
        self._shapes: WeakValueDictionary[bytes, Shape] = WeakValueDictionary()

    def of(self, sender: Hashable, rest: bytes) -> GroupForm:
        """The form of the bytes of a group after its resource, whatever is known of them. Raises as `form_of` does."""
        # Most of a fleet are kin, or the very same, which is found in one look.
        return self._of_kin(sender, rest) or self.known(rest) or self._walked(sender, rest)

    def known(self, rest: bytes) -> GroupForm | None:
        """The form of the bytes of a group after its resource, if the like was read before."""
        return self.groups.find(rest)

    def _of_kin(self, sender: Hashable, rest: bytes) -> GroupForm | None:
        """Whoever has words of its own is the only one who sends them: what is found need not be kept for others."""
        kin = self._kin.get(len(rest))
        return kin.form_of(rest, lambda chunk: self._metric(sender, chunk)) if kin is not None else None

    def _walked(self, sender: Hashable, rest: bytes) -> GroupForm:
        found = form_of(rest, lambda chunk: self._metric(sender, chunk))
        found = replace(found, shape=self._shape(found.shape))
        if found.fixed and len(found.shape):
            self.groups.keep(sender, rest, found)
            self._keep_kin(Kin(found, rest), len(rest))
        return found

    def _keep_kin(self, made: Kin, length: int) -> None:
        with self._lock:
            self._kin[length] = made
            self._kin.move_to_end(length)
            while len(self._kin) > MOST_KIN or sum(one.size for one in self._kin.values()) > self._kin_bytes:
                self._kin.popitem(last=False)

    def _shape(self, shape: Shape) -> Shape:
        """The one shape of all that are like it, as long as anybody has it: bodies that say other words have their
        numbers in the same places."""
        with self._lock:
            return self._shapes.setdefault(shape.key(), shape)

    def _metric(self, sender: Hashable, chunk: bytes) -> MetricForm:
        found = self.metrics.find(chunk)
        if found is None:
            found = metric_form_of(chunk)
            if not found.read.variable and found.read.slots:
                self.metrics.keep(sender, chunk, found)
        return found

    def forget(self) -> None:
        with self._lock:
            self._kin.clear()
        self.groups.clear()
        self.metrics.clear()


class _Held(Generic[F]):
    """Forms by the length of their bytes; of each sender, and of all, the least used go first."""

    def __init__(self, capacity: int) -> None:
        self._capacity = capacity
        self._lock = threading.Lock()
        self._held: OrderedDict[_Place, list[tuple[Hashable, F]]] = OrderedDict()
        self._of: dict[Hashable, OrderedDict[int, tuple[_Place, F]]] = {}
        self._bytes_of: dict[Hashable, int] = {}
        self.size = 0

    def find(self, body: bytes) -> F | None:
        key = _place(body)
        for _, form in self._held.get(key, ()):
            if form.shape.digest(body) == form.digest:
                with self._lock:
                    if key in self._held:
                        self._held.move_to_end(key)
                return form
        return None

    def keep(self, sender: Hashable, body: bytes, form: F) -> None:
        key = _place(body)
        with self._lock:
            for owner, old in self._held.get(key, [])[ALIKE - 1 :]:
                self._drop(key, owner, old)
            self._held.setdefault(key, []).insert(0, (sender, form))
            self._held.move_to_end(key)
            self._of.setdefault(sender, OrderedDict())[id(form)] = (key, form)
            self._bytes_of[sender] = self._bytes_of.get(sender, 0) + form.size
            self.size += form.size
            while self._bytes_of.get(sender, 0) > self._capacity // SHARE and len(self._of[sender]) > 1:
                oldest, old = next(iter(self._of[sender].values()))
                self._drop(oldest, sender, old)
            while self.size > self._capacity and len(self._held) > 1:
                oldest, forms = next(iter(self._held.items()))
                for owner, old in list(forms):
                    self._drop(oldest, owner, old)

    def _drop(self, key: _Place, owner: Hashable, form: F) -> None:
        left = [one for one in self._held.get(key, ()) if one[1] is not form]
        if left:
            self._held[key] = left
        else:
            self._held.pop(key, None)
        own = self._of[owner]
        del own[id(form)]
        self._bytes_of[owner] -= form.size
        self.size -= form.size
        if not own:
            del self._of[owner], self._bytes_of[owner]

    def clear(self) -> None:
        with self._lock:
            self._held.clear()
            self._of.clear()
            self._bytes_of.clear()
            self.size = 0


def _place(body: bytes) -> _Place:
    """The length of bytes, and of a metric its name, which comes first."""
    named = body[0] == 0x0A and len(body) > 1 and body[1] < 0x80 if body else False
    return len(body), body[: 2 + body[1]] if named else b""
