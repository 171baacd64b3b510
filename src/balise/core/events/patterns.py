"""What a log says again and again: lines that say the same with other values are one pattern.

A line is first stripped of every word with a digit in it and of quoted text. What is left is compared, word by word,
with the patterns its source has: where two differ in few words that may vary, they become one, with `…` where they
differ. Words that say how something went (`refused`, `accepted`) never vary; the first word of a line, a line of which
little would be left, and one that was said often in the same words vary once three lines differ in one word alone.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field

VARIES = "…"
MOST_READ = 300
"""Characters of a line that are looked at."""
MOST_WORDS = 40
MOST_OF_SOURCE, MOST_OF_HOST, MOST_PATTERNS = 500, 2000, 20_000
MOST_KNOWN = 4000
"""Stripped lines of one source that are known by heart."""
FIRST_LESSONS, LESSON_EVERY = 300, 50
"""So many lines of a source that nobody knows are compared with its patterns, and later one in so many of all."""
MOST_COMPARED = 100
SETTLED = 50
"""A line said so often in the same words says them on purpose: then it takes three lines to tell that one varies."""
OTHERS = 0
"""The pattern of lines that are like no others, once there are too many of them."""

_TO_ZERO = bytes.maketrans(b"123456789", b"000000000")
_DIGITS = re.compile(r"(?<![\w.\-])[A-Za-z_.\-]*+\d[\w.\-]*+")
_SEVERAL = re.compile(rf"{VARIES}(?:[/:.,]{VARIES})+")
"""Numbers one after the other, as in an address with its port."""
_QUOTED = re.compile(r'"[^"]{1,200}"|(?<!\w)\'[^\']{1,200}\'(?!\w)')
_EDGE = re.compile(r"[=:/(\[<{\"'@,]")
_PUNCTUATION = "\"'()[]{}<>,.;:!?"
_VERB = re.compile(r"[a-z]{2,}(?:ed|ing|able)")
_OUTCOMES = """
accept allow deny refuse reject grant fail failure success succeed ok error err warning warn fatal critical info debug
notice start stop begin end open close up down on off in out yes no true false lost found full empty valid invalid
unknown new old good bad active inactive online offline login logout read write get put post delete head patch create
remove add drop enter leave left join healthy unhealthy dead alive ready busy idle timeout not now again never always
ahead behind above below before after normal
"""
OUTCOMES = frozenset(_OUTCOMES.split())
"""Words that say how something went, or what was done: a line with another one says something else."""


def stripped(body: str) -> str:
    """A line without its values: `stripped("gate 7 took 3.2 ms") == "gate … took … ms"`."""
    text = body[:MOST_READ]
    if '"' in text or "'" in text:
        text = _QUOTED.sub(VARIES, text)
    return _SEVERAL.sub(VARIES, _DIGITS.sub(VARIES, text))


Line = tuple[int, str, int, str, str, str | None]
"""Time in unix nanoseconds, host, severity code, source, body, and attributes, which are not looked at."""


def shape(body: str) -> bytes:
    """A line with every number as one zero: lines of one shape are the same when stripped, and it is found faster."""
    text = body[:MOST_READ].encode("utf-8", "surrogatepass").translate(_TO_ZERO)
    return text.replace(b"0000", b"0").replace(b"00", b"0").replace(b"00", b"0")


@dataclass(slots=True, eq=False)
class Template:
    """One pattern. `words` may be fewer fixed ones later; `into` is the pattern that took its place."""

    id: int
    source: str
    severity: int
    words: list[str]
    first_seen: int
    first_host: str
    into: Template | None = None
    seen: int = 0

    @property
    def text(self) -> str:
        return " ".join(self.words)

    def root(self) -> Template:
        """The pattern that counts for this one."""
        found = self
        while found.into is not None:
            found = found.into
        return found


@dataclass(slots=True)
class _Source:
    """What one source says at one severity."""

    known: dict[bytes, Template | None] = field(default_factory=dict)
    """By the shapes of lines."""
    shelves: dict[tuple[int, str], list[Template]] = field(default_factory=lambda: defaultdict(list))
    """Patterns by how many words they have and what they begin with."""
    patterns: int = 0
    lessons: int = FIRST_LESSONS
    lines: int = 0

    def put(self, template: Template) -> None:
        self.shelves[_shelf(template.words)].append(template)
        self.patterns += 1

    def take(self, template: Template) -> None:
        self.shelves[_shelf(template.words)].remove(template)
        self.patterns -= 1

    def alike(self, words: Sequence[str]) -> list[Template]:
        """Patterns of as many words that begin alike, or with anything."""
        return [*self.shelves.get(_shelf(words), ()), *self.shelves.get((len(words), VARIES), ())]

    def of_length(self, words: int) -> list[Template]:
        return [t for (length, _), held in self.shelves.items() if length == words for t in held]

    def may_learn(self) -> bool:
        """Whether there is time to compare one more line with the patterns."""
        if self.lessons <= 0:
            self.lessons, self.lines = self.lines // LESSON_EVERY, 0
        self.lessons -= 1
        return self.lessons >= 0


class PatternLearner:
    """Says of each line which pattern it is, and learns new ones as they come.

    What it learns is in `changed` until whoever keeps it has written it: new patterns, and those that say something
    else now.
    """

    def __init__(self, held: Sequence[Template] = ()) -> None:
        self._sources: dict[tuple[str, int], _Source] = {}
        self._of_host: dict[str, int] = defaultdict(int)
        self._next = 1
        self.by_id: dict[int, Template] = {}
        self.changed: dict[int, Template] = {}
        for template in held:
            self._keep(template)

    def _keep(self, template: Template) -> None:
        self.by_id[template.id] = template
        self._next = max(self._next, template.id + 1)
        self._of_host[template.first_host] += 1
        if template.into is None:
            source = self._source(template.source, template.severity)
            source.put(template)

    def _source(self, name: str, severity: int) -> _Source:
        return self._sources.setdefault((name, severity), _Source())

    def of(self, lines: Sequence[Line]) -> list[int]:
        """The pattern of each line."""
        found = []
        sources = self._sources
        for line in lines:
            _, _, severity, name, body, _ = line
            source = sources.get((name, severity)) or self._source(name, severity)
            source.lines += 1
            seen = shape(body)
            template = source.known.get(seen)
            if template is None:
                template = None if seen in source.known else self._met(source, seen, line)
                if template is None:
                    found.append(OTHERS)
                    continue
            if template.into is not None:
                template = template.root()
            template.seen += 1
            found.append(template.id)
        return found

    def _met(self, source: _Source, seen: bytes, line: Line) -> Template | None:
        """The pattern of a line whose shape is not known by heart."""
        if not source.may_learn():
            return None
        words = stripped(line[4]).split()[:MOST_WORDS]
        template = next((t for t in source.alike(words) if not _differing(t.words, words, 0)), None)
        template = template or self._taught(source, words) or self._new(source, words, line)
        if len(source.known) >= MOST_KNOWN:
            source.known.clear()
        source.known[seen] = template
        return template

    def _taught(self, source: _Source, words: list[str]) -> Template | None:
        """The pattern that learns from these words which of its own vary; None when there is none."""
        most = max(1, len(words) // 4)
        for template in source.alike(words):
            places = _differing(template.words, words, most)
            if len(places) > most or template.seen >= SETTLED:
                continue
            joined = [_joined(template.words[i], words[i]) for i in places]
            left = sum(word != VARIES for word in template.words) - joined.count(VARIES)
            first = places[0] == 0 and joined[0] == VARIES
            varies = all(_may_vary(template.words[i], words[i]) for i in places)
            if left >= max(2, len(places)) and not first and varies:
                self._generalise(source, template, words)
                return template
        return None

    def _generalise(self, source: _Source, template: Template, words: list[str]) -> None:
        source.take(template)
        template.words = [_joined(a, b) if _differ(a, b) else a for a, b in zip(template.words, words, strict=True)]
        source.put(template)
        self.changed[template.id] = template
        # Others may say nothing else now.
        for other in source.of_length(len(words)):
            if other is not template and not _differing(template.words, other.words, 0):
                self._merge(source, other, template)

    def _merge(self, source: _Source, gone: Template, into: Template) -> None:
        source.take(gone)
        gone.into = into
        into.first_seen = min(into.first_seen, gone.first_seen)
        into.seen += gone.seen
        self.changed[gone.id], self.changed[into.id] = gone, into

    def _new(self, source: _Source, words: list[str], line: Line) -> Template | None:
        time, host, severity, name, *_ = line
        full = source.patterns >= MOST_OF_SOURCE or self._of_host[host] >= MOST_OF_HOST
        if full or len(self.by_id) >= MOST_PATTERNS:
            return None
        template = Template(self._next, name, severity, words, time, host)
        alike = _alike_but_once(source.of_length(len(words))[-MOST_COMPARED:], words)
        self.changed[template.id] = template
        self._keep(template)
        if len(alike) >= 2:
            self._generalise(source, alike[0], words)
        return template.root()

    def forget(self, ids: set[int]) -> None:
        """Lets go of patterns of which nothing is kept any more."""
        gone = {i for i in ids if (t := self.by_id.get(i)) is not None and i not in self.changed and t.into is None}
        gone |= {i for i in ids if (t := self.by_id.get(i)) is not None and t.into is not None and t.root().id in gone}
        for number in gone:
            template = self.by_id.pop(number)
            self._of_host[template.first_host] -= 1
            source = self._source(template.source, template.severity)
            if template.into is None:
                source.take(template)
            source.known.clear()

    def family(self, number: int) -> set[int]:
        """A pattern with all those whose place it took; empty when there is none of this number."""
        held = self.by_id.get(number)
        if held is None:
            return set()
        root = held.root()
        return {t.id for t in list(self.by_id.values()) if t.root() is root}


def _shelf(words: Sequence[str]) -> tuple[int, str]:
    """How many words there are, and the first one up to a sign in it."""
    first = words[0] if words else ""
    edge = _EDGE.search(first)
    return len(words), first[: edge.end()] if edge else first


def _differing(pattern: Sequence[str], words: Sequence[str], most: int) -> list[int]:
    """The places where a pattern does not say these words, of as many; one more than `most` at the most."""
    places = []
    for i, (one, other) in enumerate(zip(pattern, words, strict=True)):
        if one != other and _differ(one, other):
            places.append(i)
            if len(places) > most:
                break
    return places


def _differ(pattern: str, word: str) -> bool:
    """Whether one word of a pattern does not say this word."""
    if VARIES not in pattern:
        return pattern != word
    begin, _, rest = pattern.partition(VARIES)
    end = rest.rpartition(VARIES)[2]
    return len(word) <= len(begin) + len(end) or not word.startswith(begin) or not word.endswith(end)


def _alike_but_once(templates: Sequence[Template], words: Sequence[str]) -> list[Template]:
    """Patterns that differ from these words in one and the same place alone, and there in what may vary."""
    by_place: dict[int, list[Template]] = defaultdict(list)
    for template in templates:
        places = _differing(template.words, words, 1)
        if len(places) == 1 and len(words) > 1 and _may_vary(template.words[places[0]], words[places[0]]):
            by_place[places[0]].append(template)
    return max(by_place.values(), key=len, default=[])


def _may_vary(one: str, other: str) -> bool:
    """Whether two words may stand for two values of the same thing."""
    return not (_says_how(one) or _says_how(other))


def _says_how(word: str) -> bool:
    plain = word.strip(_PUNCTUATION).lower()
    return plain in OUTCOMES or _VERB.fullmatch(plain) is not None


def _joined(one: str, other: str) -> str:
    """What two words have in common up to a sign between: `_joined("user=anna", "user=berit") == "user=…"`."""
    begin = end = ""
    for match in _EDGE.finditer(one):
        if other.startswith(one[: match.end()]):
            begin = one[: match.end()]
    left, right = one[len(begin) :], other[len(begin) :]
    while left and right and left[-1] == right[-1] and left[-1] in _PUNCTUATION:
        end, left, right = left[-1] + end, left[:-1], right[:-1]
    return begin + VARIES + end
