"""Lists of hosts as people have them: pasted lines, a CSV with a heading, ranges of addresses."""

from __future__ import annotations

import csv
import io
import ipaddress
import re
from collections.abc import Iterator
from typing import Any

from pydantic import ValidationError

from balise.api.problems import message_of
from balise.api.remote import MOST_ENTRIES, EnrolmentEntry, ListAnswer, ListProblem, ReadList

MOST_IN_RANGE = 1024
COLUMNS = ("name", "address", "port", "protocol", "credential", "labels", "group", "site", "host_key")
_PORT = re.compile(r"^(?P<address>\[[0-9A-Fa-f:.]+\]|[^:\s]+):(?P<port>\d{1,5})$")
_SPAN = re.compile(r"^(?P<first>\d{1,3}(?:\.\d{1,3}){3})-(?P<last>\d{1,3}(?:\.\d{1,3}){0,3})$")
_LABEL = re.compile(r"^(?P<key>[A-Za-z0-9][A-Za-z0-9._-]*)=(?P<value>.*)$")


MOST_PROBLEMS = 200
MOST_TEXT = 1000
"""Characters of a line that are shown."""


class ListError(ValueError):
    """A line that cannot be read; the message says what is wrong with it."""


class LacksError(ListError):
    """A line that lacks what a whole list can be given at once."""

    def __init__(self, field: str) -> None:
        super().__init__(f"it has no {field}: say which {field} to use")
        self.field = field


def read_list(wanted: ReadList) -> ListAnswer:
    """Entries, and the lines that could not be read with what is wrong with each.

    A line is an address, `name address`, `address:port` or `name address:port`, then labels as `key=value`; an
    address may be a range: `192.0.2.0/28`, `192.0.2.10-20`. Text behind `#` is left out. A first line that names
    columns (`name,address,…`) makes it a CSV.
    """
    lines = wanted.text.splitlines()
    heading = [cell.strip().lower() for cell in next(csv.reader(lines[:1]), [])]
    is_csv = "address" in heading
    found = _csv(wanted.text, heading) if is_csv else _plain(lines)
    entries: list[EnrolmentEntry] = []
    problems: list[ListProblem] = []
    lacking: dict[str, list[tuple[int, str]]] = {}
    defaults = wanted.model_dump(include={"protocol", "credential", "group", "site"}, exclude_none=True)
    for number, text, read in found:
        try:
            made = [_entry({**defaults, **values}) for values in read()]
            if len(entries) + len(made) > MOST_ENTRIES:
                raise ListError(f"the list is longer than {MOST_ENTRIES} hosts: take it in parts")
            entries.extend(made)
        except LacksError as error:
            lacking.setdefault(error.field, []).append((number, text))
        except ListError as error:
            problems.append(ListProblem(line=number, text=text[:MOST_TEXT], problem=str(error)))
            if len(problems) >= MOST_PROBLEMS:
                break
    problems = [_lack(field, places) for field, places in lacking.items()] + problems
    return ListAnswer(entries=entries, problems=problems, heading=lines[0] if is_csv else "")


def _lack(field: str, places: list[tuple[int, str]]) -> ListProblem:
    """Many lines that lack the same, said once."""
    count = len(places)
    said = f"{count} lines have no {field}: choose one {field} for the list, or name it in each"
    return ListProblem(
        line=places[0][0],
        lines=count,
        text="\n".join(text for _, text in places),
        problem=said if count > 1 else str(LacksError(field)),
    )


def _plain(lines: list[str]) -> Iterator[tuple[int, str, Any]]:
    for number, line in enumerate(lines, 1):
        text = line.split("#", 1)[0].strip()
        if text:
            yield number, text, lambda text=text: _read_line(text)


def _csv(text: str, heading: list[str]) -> Iterator[tuple[int, str, Any]]:
    strange = [name for name in heading if name and name not in COLUMNS]

    def refuse() -> list[dict[str, Any]]:
        raise ListError(f"there is no column {strange[0]!r}: the columns are {', '.join(COLUMNS)}")

    if strange:
        yield 1, ",".join(heading), refuse
        return
    reader = csv.reader(io.StringIO(text))
    next(reader)
    for cells in reader:
        if any(cell.strip() for cell in cells) and not cells[0].lstrip().startswith("#"):
            named = dict(zip(heading, (cell.strip() for cell in cells), strict=False))
            yield reader.line_num, ",".join(cells), lambda named=named: _read_row(named)


def _read_row(row: dict[str, str]) -> list[dict[str, Any]]:
    values: dict[str, Any] = {key: value for key, value in row.items() if value}
    if "address" not in values:
        raise ListError("it has no address")
    if "labels" in values:
        values["labels"] = _labels(re.split(r"[;\s]+", values["labels"]))
    if "port" in values:
        if not values["port"].isdecimal():
            raise ListError(f"the port {values['port']!r} is no number")
        values["port"] = int(values["port"])
    return [{**values, **where} for where in _addresses(values["address"], values.get("name"))]


def _read_line(text: str) -> list[dict[str, Any]]:
    words = re.split(r"[,;\s]+", text)
    labels = _labels([w for w in words if _LABEL.match(w)])
    rest = [w for w in words if w and not _LABEL.match(w)]
    if not rest or len(rest) > 2:
        raise ListError("write an address, or a name and an address, then labels as key=value")
    name = rest[0] if len(rest) == 2 else None
    return [{**({"labels": labels} if labels else {}), **where} for where in _addresses(rest[-1], name)]


def _labels(words: list[str]) -> dict[str, str]:
    found: dict[str, str] = {}
    for word in words:
        match = _LABEL.match(word)
        if word and not match:
            raise ListError(f"{word!r} is no label: write key=value")
        if match:
            found[match["key"]] = match["value"]
    return found


def _addresses(text: str, name: str | None) -> Iterator[dict[str, Any]]:
    port: dict[str, Any] = {}
    match = _PORT.match(text)
    if (match and text.count(":") == 1) or text.startswith("["):
        if not match:
            raise ListError(f"{text!r} is no address and port")
        text, port = match["address"].strip("[]"), {"port": int(match["port"])}
    found = _range(text)
    if found is None:
        yield {"address": text, **({"name": name} if name else {}), **port}
        return
    if name:
        raise ListError("a range has no one name: leave the name out, or write the hosts one by one")
    for address in found:
        yield {"address": address, **port}


def _range(text: str) -> list[str] | None:
    """The addresses of a range; None when it is none."""
    try:
        if "/" in text:
            network = ipaddress.ip_network(text, strict=False)
            if network.num_addresses > MOST_IN_RANGE + 2:
                raise ListError(f"{text} is {network.num_addresses} addresses: at most {MOST_IN_RANGE} in one range")
            return [str(address) for address in network.hosts()]
        match = _SPAN.match(text)
        if not match:
            return None
        first = ipaddress.IPv4Address(match["first"])
        tail = match["last"].split(".")
        last = ipaddress.IPv4Address(".".join([*match["first"].split(".")[: 4 - len(tail)], *tail]))
    except ListError:
        raise
    except ValueError:
        raise ListError(f"{text!r} is no range of addresses: write 192.0.2.0/28 or 192.0.2.10-20") from None
    count = int(last) - int(first) + 1
    if not 1 <= count <= MOST_IN_RANGE:
        raise ListError(f"{text} is {count} addresses: between 1 and {MOST_IN_RANGE} in one range")
    return [str(first + n) for n in range(count)]


def _entry(values: dict[str, Any]) -> EnrolmentEntry:
    try:
        return EnrolmentEntry.model_validate(values)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"])
        if first["type"] == "missing":
            raise LacksError(where) from None
        raise ListError(f"{where}: {message_of(first)}") from None
