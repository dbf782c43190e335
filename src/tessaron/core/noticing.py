"""What an engineer should know of a path before loading: each rule gives a note, or none."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from tessaron.core.kinds import SCALAR_KINDS, Kind
from tessaron.core.paths import ELEMENT
from tessaron.core.profile import LONG_TEXT_BYTES, Example, Profile
from tessaron.core.shape import ShapeNode
from tessaron.core.structure import StructureNote
from tessaron.core.typing.inference import infer_type
from tessaron.core.typing.types import DECIMAL_DIGITS
from tessaron.core.uniques import Repeats

CONSTANT_FROM = 10
"""A value is called constant when it occurs so often and no other does."""
_NO_PROFILE = Profile()


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

    def note(self, code: str, text: str, count: int, example: str = "", advice: str = "") -> SurveyNote:
        return SurveyNote(self.path, code, text, count, self.profile.examples.get(example), advice)


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
    counts = of.node.counts
    numbers = counts[Kind.INTEGER] + counts[Kind.LONG_INTEGER] + counts[Kind.FRACTION]
    groups = {"number": numbers, "text": counts[Kind.TEXT], "boolean": counts[Kind.BOOLEAN]}
    met = {name: count for name, count in groups.items() if count}
    if len(met) > 1:
        rarest = min(met, key=lambda name: met[name])
        keys = {
            "number": ("INTEGER", "FRACTION", "LONG_INTEGER"),
            "text": ("TEXT",),
            "boolean": ("BOOLEAN",),
        }[rarest]
        example = next((key for key in keys if key in of.profile.examples), "")
        shares = ", ".join(f"{count:,} {name}" for name, count in sorted(met.items(), key=lambda p: -p[1]))
        advice = "the column becomes text; mend the source, or clean the rare kind"
        yield of.note("mixed kinds", f"mixed kinds: {shares}", met[rarest], example, advice)
    if met and counts[Kind.OBJECT]:
        text = f"a value in some records, an object in {counts[Kind.OBJECT]:,}"
        yield of.note(
            "value or object",
            text,
            counts[Kind.OBJECT],
            "OBJECT",
            "both are kept: the value and the object's columns",
        )
    if met and counts[Kind.ARRAY]:
        text = f"a value in some records, an array in {counts[Kind.ARRAY]:,}"
        yield of.note(
            "value or array", text, counts[Kind.ARRAY], "ARRAY", "both are kept: a column and a child table"
        )


def _one_or_many(of: _Subject) -> Iterator[SurveyNote]:
    counts, element = of.node.counts, of.node.children.get(ELEMENT)
    if counts[Kind.OBJECT] and counts[Kind.ARRAY] and element is not None and of.node.is_lifted:
        text = f"one object in {counts[Kind.OBJECT]:,} records, an array in {counts[Kind.ARRAY]:,}"
        rarer = "OBJECT" if counts[Kind.OBJECT] <= counts[Kind.ARRAY] else "ARRAY"
        yield of.note(
            "one or many",
            text,
            min(counts[Kind.OBJECT], counts[Kind.ARRAY]),
            rarer,
            "one child table; a single object has ordinal 1",
        )


def _structures(of: _Subject) -> Iterator[SurveyNote]:
    for found in of.structure:
        if found.text.startswith("dictionary"):
            yield of.note(
                "dictionary",
                found.text,
                of.node.counts[Kind.OBJECT],
                "",
                "a child table with a key column; --no-dictionary PATH if they are fields",
            )
        elif found.text.startswith("contains itself"):
            yield of.note(
                "contains itself",
                found.text,
                of.node.occurrences,
                "",
                "rows refer by within_key to the row they stand in",
            )


_SUSPECT_ADVICE = {
    "number": ("numbers kept as text", "JSON text stays text; ask for number columns where the digits are to be trusted"),
    "date": ("dates not written as in ISO 8601", "stays text; a format such as %d/%m/%Y would read it"),
    "ambiguous date": ("dates of which day and month cannot be told apart", "find out which it is; the formats are %d/%m/%Y and %m/%d/%Y"),
    "JSON": ("JSON kept as text", "stays text; it could be flattened in place"),
    "placeholder": ("placeholders that may mean null", "decide whether they are to be null"),
    "surrounding spaces": ("spaces around the value", "trim before comparing or joining"),
    "e-mail address": ("looks personal: e-mail addresses", "check whether it may be loaded; `tessaron sample --mask` hides it"),
    "phone number": ("looks personal: phone numbers", "check whether it may be loaded; `tessaron sample --mask` hides it"),
    "card number": ("looks personal: card numbers (by their check digit)", "check whether it may be loaded; `tessaron sample --mask` hides it"),
}  # fmt: skip


def _suspects(of: _Subject) -> Iterator[SurveyNote]:
    found = of.profile.suspects
    texts = of.node.counts[Kind.TEXT]
    for name, (what, advice) in _SUSPECT_ADVICE.items():
        count = found.get(name, 0)
        if not count or (name == "date" and found.get("ambiguous date", 0) == count):
            continue
        share = "all" if count == texts else f"{count:,} of {texts:,}"
        yield of.note(name, f"{what}: {share}", count, name, advice)


def _nearly_dates(of: _Subject) -> Iterator[SurveyNote]:
    note = infer_type(of.node).note if of.node.scalar_kinds() == [Kind.TEXT] else ""
    if "look like" in note:
        count = sum(n for reading, n in of.node.readings.items() if reading.name != "boolean")
        yield of.note(
            "not all alike", f"stays text: {note}", count, "TEXT", "mend the source, or read it with a format"
        )


def _spellings(of: _Subject) -> Iterator[SurveyNote]:
    """Values that differ only in upper and lower case or in the spaces around them."""
    if of.profile.distinct.counts is None:
        return
    spellings: dict[str, list[tuple[str, int]]] = {}
    for value, count in of.profile.distinct.counts.values():
        if value[:1] == '"':
            spellings.setdefault(value[1:-1].strip().casefold(), []).append((value, count))
    several = [group for group in spellings.values() if len(group) > 1]
    if several:
        shown = "; ".join(
            " / ".join(f"{value} ({count:,})" for value, count in sorted(group, key=lambda p: -p[1])[:4])
            for group in several[:3]
        )
        count = sum(count for group in several for _, count in sorted(group, key=lambda p: -p[1])[1:])
        yield of.note(
            "spellings",
            f"differ only in case or spaces: {shown}",
            count,
            "",
            "bring them to one case, trimmed",
        )


def _emptiness(of: _Subject) -> Iterator[SurveyNote]:
    node = of.node
    if node.occurrences and node.occurrences == node.counts[Kind.NULL]:
        yield of.note(
            "never filled",
            f"never filled: null in all {node.occurrences:,} rows that have it",
            node.occurrences,
            "NULL",
            "the column is text without values; leave it out if it stays so",
        )
    counts = of.profile.distinct.counts
    if counts is not None and len(counts) == 1 and of.scalars == node.occurrences >= CONSTANT_FROM:
        ((value, count),) = counts.values()
        everywhere = "in every row" if count == of.rows else "wherever it is filled"
        yield of.note(
            "constant", f"constant: {value} {everywhere}", count, "", "it says nothing about single rows"
        )


def _keys(of: _Subject) -> Iterator[SurveyNote]:
    repeats = of.repeats
    if repeats is None or of.scalars < 2:
        return
    if not repeats.repeated:
        always = (
            "and never missing" if of.scalars == of.rows else f"but missing in {of.rows - of.scalars:,} rows"
        )
        yield of.note(
            "unique",
            f"unique {always}",
            of.scalars,
            "",
            "a candidate key: --key" if of.scalars == of.rows else "",
        )
    else:
        shown = ", ".join(f"{value} ({count:,} times)" for value, count in repeats.values)
        more = " …" if repeats.repeated > len(repeats.values) else ""
        yield of.note(
            "almost unique",
            f"almost unique; repeated: {shown}{more}",
            repeats.rows,
            "",
            "find out why before it is taken for a key",
        )


def _extremes(of: _Subject) -> Iterator[SurveyNote]:
    long = of.node.counts[Kind.LONG_INTEGER]
    if long:
        fits = infer_type(of.node).type.name
        advice = f"the column is {fits}" + (
            f": more than {DECIMAL_DIGITS} digits" if fits == "text" else ", exact"
        )
        yield of.note("long integers", f"integers beyond 64 bits: {long:,}", long, "LONG_INTEGER", advice)
    if of.profile.long_texts:
        text = f"texts longer than {LONG_TEXT_BYTES:,} bytes: {of.profile.long_texts:,}, the longest {of.node.longest_text:,}"
        yield of.note(
            "very long", text, of.profile.long_texts, "very long", "check the limit of the warehouse column"
        )


_RULES: tuple[Callable[[_Subject], Iterator[SurveyNote]], ...] = (
    _mixed_kinds,
    _one_or_many,
    _structures,
    _suspects,
    _nearly_dates,
    _spellings,
    _emptiness,
    _keys,
    _extremes,
)
