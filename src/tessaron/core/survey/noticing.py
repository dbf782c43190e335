"""What an engineer should know of a path before loading: each rule gives a note, or none."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace

from tessaron.core.base.kinds import SCALAR_KINDS, Kind
from tessaron.core.base.paths import TEXT_STEP, plain_name
from tessaron.core.shape.inference import infer_type
from tessaron.core.shape.profile import LONG_TEXT_BYTES, Example, Profile
from tessaron.core.shape.shape_node import ShapeNode
from tessaron.core.shape.structure import StructureNote
from tessaron.core.shape.uniques import Repeats
from tessaron.core.tape.distinct import TELLING_FROM

_NO_PROFILE = Profile()
_SCALAR_GROUPS = {
    "numbers": (Kind.INTEGER, Kind.FRACTION, Kind.LONG_INTEGER),
    "texts": (Kind.TEXT,),
    "booleans": (Kind.BOOLEAN,),
}
_SUSPECTED = {
    "number": "numbers kept as text",
    "grouped number": "numbers as people write them, kept as text",
    "date": "dates not written as in ISO 8601",
    "ambiguous date": "dates of which day and month cannot be told apart",
    "JSON": "JSON kept as text",
    "placeholder": "placeholders that may mean null",
    "surrounding spaces": "spaces around the value",
    "e-mail address": "looks personal: e-mail addresses",
    "phone number": "looks personal: phone numbers",
    "card number": "looks personal: card numbers, by their check digit",
}
"""What texts may be besides (see `suspects`), in words."""


@dataclass(frozen=True, slots=True)
class SurveyNote:
    """One thing to know of one path.

    Attributes:
        path: The path, as JSONPath.
        code: A short stable name of what it is.
        text: It, for people.
        count: How many values or rows it concerns.
        example: One of them, with its place; None where there is none.
        advice: What to do about it.
    """

    path: str
    code: str
    text: str
    count: int
    example: Example | None = None
    advice: str = ""


@dataclass(frozen=True, slots=True)
class _Subject:
    """What the rules look at."""

    path: str
    node: ShapeNode
    profile: Profile
    rows: int
    structure: tuple[StructureNote, ...]
    repeats: Repeats | None

    @property
    def scalars(self) -> int:
        return sum(self.node.counts[kind] for kind in SCALAR_KINDS)

    def note(self, code: str, text: str, count: int, example: str = "") -> SurveyNote:
        """Return a note; without a certain example, with the first of the kind that tells most."""
        examples = self.profile.examples
        names = [example] if example else [kind.name for kind in (*SCALAR_KINDS, Kind.OBJECT, Kind.ARRAY)]
        shown = next((examples[name] for name in names if name in examples), None)
        return SurveyNote(self.path, code, text, count, shown, ADVICE[code])


_PERSONAL = "check whether it may be loaded; `tessaron sample --mask` hides it"
ADVICE = {
    "mixed kinds": "the column becomes text; mend the source, or clean the rare kind",
    "value or object": "both are kept: the value and the object's columns",
    "value or array": "both are kept: a column and a child table",
    "one or many": "one child table; a single object has ordinal 0",
    "mixed content": 'keep the markup too where the order matters: a column with type = "xml"',
    "dictionary": "a child table with a key column; --no-dictionary PATH if they are fields",
    "tree": "a table with a key column, whose rows refer to each other; --no-dictionary PATH if not",
    "contains itself": "rows refer by within_key to the row they stand in",
    "grouped number": 'stay text; type = "decimal(…)" with decimal and grouping in a layout reads them',
    "number": "text stays text; load it as a number only where the digits are to be trusted",
    "date": "stays text; a format such as %d/%m/%Y would read it",
    "ambiguous date": "find out which it is: the formats are %d/%m/%Y and %m/%d/%Y",
    "JSON": "stays text; it could be flattened in place",
    "placeholder": "decide whether they are to be null",
    "surrounding spaces": "trim before comparing or joining",
    "e-mail address": _PERSONAL,
    "phone number": _PERSONAL,
    "card number": _PERSONAL,
    "not all alike": "mend the source, or read it with a format",
    "spellings": "bring them to one case, trimmed",
    "never filled": "the column is text without values; leave it out if it stays so",
    "constant": "it says nothing about single rows",
    "unique": "a candidate key: --key",
    "unique where filled": "no key as it is, as some rows have none",
    "almost unique": "find out why before it is taken for a key",
    "follows": "a table of its own would hold each once; it is no mistake to leave them",
    "long integers": "the column is a decimal, or text beyond 38 digits; both are exact",
    "very long": "check the limit of the warehouse column",
}
"""What to do about each sort of note, by its code."""


def find_notes(
    path: str,
    node: ShapeNode,
    rows: int,
    structure: Iterable[StructureNote] = (),
    repeats: Repeats | None = None,
) -> list[SurveyNote]:
    """Return the notes of one path.

    Args:
        path: The path, as JSONPath.
        node: What was met there.
        rows: Rows of the level it belongs to.
        structure: What was recognised there while the shape was settled.
        repeats: How often values repeat, where that was counted.
    """
    subject = _Subject(path, node, node.profile or _NO_PROFILE, rows, tuple(structure), repeats)
    return [note for rule in _RULES for note in rule(subject)]


def _mixed_kinds(of: _Subject) -> Iterator[SurveyNote]:
    if of.node.is_markup:
        # All is text there: what reads as a number does not make the rest odd.
        return
    counts = of.node.counts
    met = {
        name: sum(counts[kind] for kind in kinds)
        for name, kinds in _SCALAR_GROUPS.items()
        if any(counts[kind] for kind in kinds)
    }
    if len(met) > 1:
        rarest = min(met, key=lambda name: met[name])
        example = next(kind.name for kind in _SCALAR_GROUPS[rarest] if counts[kind])
        shares = ", ".join(f"{count:,} {name}" for name, count in sorted(met.items(), key=lambda p: -p[1]))
        yield of.note("mixed kinds", f"mixed kinds: {shares}", met[rarest], example)
    for kind, code in ((Kind.OBJECT, "value or object"), (Kind.ARRAY, "value or array")):
        if met and counts[kind]:
            text = f"a value in some records, an {kind.name.lower()} in {counts[kind]:,}"
            yield of.note(code, text, counts[kind], kind.name)


def _mixed_content(of: _Subject) -> Iterator[SurveyNote]:
    """Say where text stands among elements of XML: only their order tells how they belong together."""
    texts = of.node.children.get(TEXT_STEP)
    names = [plain_name(name) for name in of.node.members()]
    if texts is not None and any(name[:1] != "@" and name != "text()" for name in names):
        count = sum(texts.counts)
        yield of.note("mixed content", f"text among elements in {count:,}; it is one column", count, "OBJECT")


def _one_or_many(of: _Subject) -> Iterator[SurveyNote]:
    objects, arrays = (of.node.counts[kind] for kind in (Kind.OBJECT, Kind.ARRAY))
    if objects and arrays and of.node.is_lifted and not of.node.is_markup:
        rarer = "OBJECT" if objects <= arrays else "ARRAY"
        text = f"one object in {objects:,} records, an array in {arrays:,}"
        yield of.note("one or many", text, min(objects, arrays), rarer)


def _structures(of: _Subject) -> Iterator[SurveyNote]:
    for found in of.structure:
        for code in ("dictionary", "tree", "contains itself"):
            if found.text.startswith(code):
                yield of.note(code, found.text, of.node.occurrences)


def _suspects(of: _Subject) -> Iterator[SurveyNote]:
    found = of.profile.suspects
    texts = of.node.counts[Kind.TEXT]
    for name, what in _SUSPECTED.items():
        count = found.get(name, 0)
        if not count or (name == "date" and found.get("ambiguous date", 0) == count):
            continue
        share = "all" if count == texts else f"{count:,} of {texts:,}"
        yield of.note(name, f"{what}: {share}", count, name)


def _nearly_read(of: _Subject) -> Iterator[SurveyNote]:
    note = infer_type(of.node).note if of.node.scalar_kinds() == [Kind.TEXT] else ""
    if "look like" in note:
        count = sum(n for reading, n in of.node.readings.items() if reading.name != "boolean")
        yield of.note("not all alike", f"stays text: {note}", count, "TEXT")


def _spellings(of: _Subject) -> Iterator[SurveyNote]:
    """Find values that differ only in upper and lower case or in the spaces around them."""
    groups: dict[str, list[tuple[str, int]]] = {}
    for value, count in (of.profile.distinct.counts or {}).values():
        if value[:1] == '"':
            groups.setdefault(value[1:-1].strip().casefold(), []).append((value, count))
    several = [sorted(group, key=lambda p: (-p[1], p[0])) for group in groups.values() if len(group) > 1]
    if several:
        several.sort()
        shown = "; ".join(
            " / ".join(f"{value} ({count:,})" for value, count in group[:4]) for group in several[:3]
        )
        count = sum(count for group in several for _, count in group[1:])
        yield of.note("spellings", f"differ only in case or spaces: {shown}", count)


def _emptiness(of: _Subject) -> Iterator[SurveyNote]:
    node = of.node
    if node.occurrences and node.occurrences == node.counts[Kind.NULL]:
        text = f"never filled: null in all {node.occurrences:,} rows that have it"
        yield of.note("never filled", text, node.occurrences, "NULL")
    counts = of.profile.distinct.counts
    if counts is not None and len(counts) == 1 and of.scalars == node.occurrences >= TELLING_FROM:
        ((value, count),) = counts.values()
        everywhere = "in every row" if count == of.rows else "wherever it is filled"
        yield of.note("constant", f"constant: {value} {everywhere}", count)


def _keys(of: _Subject) -> Iterator[SurveyNote]:
    repeats = of.repeats
    if repeats is None or of.scalars < TELLING_FROM:
        return
    missing = of.rows - of.scalars
    if repeats.repeated:
        shown = ", ".join(f"{value} ({count:,} times)" for value, count in repeats.values)
        more = " …" if repeats.repeated > len(repeats.values) else ""
        note = of.note("almost unique", f"almost unique; repeated: {shown}{more}", repeats.rows)
        yield replace(note, example=repeats.example)
    elif missing > of.scalars:
        # What few rows have is no key of them.
        return
    elif missing:
        yield of.note("unique where filled", f"unique, but missing in {missing:,} rows", of.scalars)
    else:
        yield of.note("unique", "unique and never missing", of.scalars)


def _extremes(of: _Subject) -> Iterator[SurveyNote]:
    long, profile = of.node.counts[Kind.LONG_INTEGER], of.profile
    if long:
        yield of.note("long integers", f"integers beyond 64 bits: {long:,}", long, "LONG_INTEGER")
    if profile.long_texts:
        most = f"the longest has {of.node.longest_text:,}"
        text = f"texts longer than {LONG_TEXT_BYTES:,} bytes: {profile.long_texts:,}; {most}"
        yield of.note("very long", text, profile.long_texts, "very long")


_RULES: tuple[Callable[[_Subject], Iterator[SurveyNote]], ...] = (
    _mixed_kinds,
    _mixed_content,
    _one_or_many,
    _structures,
    _suspects,
    _nearly_read,
    _spellings,
    _emptiness,
    _keys,
    _extremes,
)
