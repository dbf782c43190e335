"""Relational schemas made at random, filled, and nested as feeds nest them: what a draft should find again.

Every field has a name of its own in the whole schema, so that a table is known by the names of its columns,
whatever it is called. `python -m tests.random_schemas [COUNT]` prints how much of them drafts find.
"""

import json
import random
import sys
from dataclasses import dataclass, field

import tessaron
from tessaron.core.base.paths import Origin

WORDS = (
    "berth",
    "crane",
    "tug",
    "pilot",
    "cargo",
    "quay",
    "tide",
    "agent",
    "fee",
    "seal",
    "watch",
    "buoy",
    "lock",
)
KEYS = ("N1", "N2", "S1", "S2", "E1", "W3", "W4", "C7", "C8")


@dataclass
class Entity:
    """A table: its own fields, the objects in its rows that are no tables, and what stands below it."""

    name: str
    fields: list[str] = field(default_factory=list)
    optional: list[str] = field(default_factory=list)
    inline: dict[str, list[str]] = field(default_factory=dict)
    arrays: dict[str, "Entity"] = field(default_factory=dict)
    dictionaries: dict[str, "Entity"] = field(default_factory=dict)
    kinds: dict[str, "Entity"] = field(default_factory=dict)
    contains_itself: bool = False

    def columns(self):
        """Return the names of all columns of the table."""
        return {*self.fields, *self.optional, *(name for names in self.inline.values() for name in names)}

    def below(self):
        """Yield the tables below it."""
        for group in (self.arrays, self.dictionaries, self.kinds):
            yield from group.values()

    def all(self):
        """Yield the table and all below it."""
        yield self
        for each in self.below():
            yield from each.all()


def random_schema(chance):
    """Return a schema of a few tables."""
    names = iter(f"{chance.choice(WORDS)}_{number}" for number in range(1_000))
    top = _entity(chance, names, 3)
    if chance.random() < 0.4:
        top.fields.append("kind")
        for number in range(chance.randint(2, 5)):
            kind = Entity(f"kind {number}", _some(chance, names, 2, 6))
            top.kinds[f"{chance.choice(WORDS)}{number}"] = kind
    return top


def _some(chance, names, least, most):
    return [next(names) for _ in range(chance.randint(least, most))]


def _entity(chance, names, depth):
    made = Entity(next(names), _some(chance, names, 2, 6))
    made.optional = _some(chance, names, 0, 2)
    if chance.random() < 0.5:
        made.inline[next(names)] = _some(chance, names, 2, 4)
    if not depth:
        return made
    for _ in range(chance.randint(0, 2)):
        made.arrays[next(names)] = _entity(chance, names, depth - 1)
    if chance.random() < 0.25:
        made.dictionaries[next(names)] = Entity(next(names), _some(chance, names, 2, 3))
    if chance.random() < 0.15:
        made.arrays[next(names)] = inner = Entity(next(names), _some(chance, names, 2, 4))
        inner.contains_itself = True
    return made


def filled(schema, chance, count):
    """Return records of a schema."""
    return [_row(schema, chance, 3) for _ in range(count)]


def _row(entity, chance, depth, called=""):
    made = {name: _value(chance) for name in entity.fields}
    made |= {name: _value(chance) for name in entity.optional if chance.random() < 0.7}
    made |= {name: {each: _value(chance) for each in names} for name, names in entity.inline.items()}
    for name, inner in entity.arrays.items():
        made[name] = [_row(inner, chance, 2, name) for _ in range(chance.randint(0, 3))]
    for name, inner in entity.dictionaries.items():
        made[name] = {key: _row(inner, chance, 0) for key in chance.sample(KEYS, chance.randint(1, 4))}
    if entity.contains_itself and depth:
        made[called] = [_row(entity, chance, depth - 1, called) for _ in range(chance.randint(0, 2))]
    if entity.kinds:
        kind = chance.choice(list(entity.kinds))
        made["kind"] = kind
        own = _row(entity.kinds[kind], chance, 0)
        made |= own if len(kind) % 2 else {kind: own}
    return made


def _value(chance):
    return chance.choice((chance.randint(0, 500), chance.randint(0, 500), f"t{chance.randint(0, 99)}"))


def drafted(records, **options):
    """Return the columns of each drafted table."""
    layout = tessaron.draft("\n".join(map(json.dumps, records)).encode(), name="top", **options)
    known = {origin.value for origin in Origin}
    compiled = layout.compiled(secret=b"any").records
    return [
        {str(column.source.path[-1]) for column in table.columns if column.name not in known}
        for table in compiled.tables
        if table.columns
    ]


@dataclass
class Score:
    """How much of schemas was found.

    Attributes:
        wanted, made, matched: Tables of the schemas, of the drafts, and of both.
        columns, in_place: Columns of the schemas, and those that stand in the table that matches theirs.
    """

    wanted: int = 0
    made: int = 0
    matched: int = 0
    columns: int = 0
    in_place: int = 0

    def add(self, schema, tables):
        """Take in a draft of a schema; return whether nothing is amiss."""
        entities = [each.columns() for each in schema.all()]
        pairs = [max(tables, key=lambda table, own=own: len(own & table), default=set()) for own in entities]
        good = [
            len(own & table) >= 0.5 * len(own | table) for own, table in zip(entities, pairs, strict=True)
        ]
        in_place = sum(len(own & table) for own, table in zip(entities, pairs, strict=True))
        self.wanted += len(entities)
        self.made += len(tables)
        self.matched += sum(good)
        self.columns += sum(map(len, entities))
        self.in_place += in_place
        return all(good) and len(tables) == len(entities) and in_place == sum(map(len, entities))

    def __str__(self):
        return (
            f"tables: precision {self.matched / self.made:.3f}, recall {self.matched / self.wanted:.3f}; "
            f"columns in the right table {self.in_place / self.columns:.3f}"
        )


def score_of(count, records=120):
    """Return the score of drafts of `count` schemas, and the numbers of those in which something is amiss."""
    score, amiss = Score(), []
    for number in range(count):
        chance = random.Random(number)
        schema = random_schema(chance)
        if not score.add(schema, drafted(filled(schema, chance, records))):
            amiss.append(number)
    return score, amiss


if __name__ == "__main__":
    found, wrong = score_of(int(sys.argv[1]) if len(sys.argv) > 1 else 200)
    print(found)
    print(f"{len(wrong)} schemas with something amiss: {wrong}")
