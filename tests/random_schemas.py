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
from tessaron.core.layout.table_set import written_name

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
    shared: dict[str, "Entity"] = field(default_factory=dict)
    known: list[dict] = field(default_factory=list)
    """Of a shared entity whose first field decides the others: its rows, each of which many refer to."""

    def columns(self):
        """Return the names of all columns of the table, those that refer to a row elsewhere included."""
        referring = (each.fields[0] for each in self.shared.values() if each.known)
        inline = (name for names in self.inline.values() for name in names)
        return {*self.fields, *self.optional, *inline, *referring}

    def below(self):
        """Yield the tables below it."""
        for group in (self.arrays, self.dictionaries, self.kinds):
            yield from group.values()

    def all(self):
        """Yield the table and all below it."""
        yield self
        for each in self.below():
            yield from each.all()

    def whole(self):
        """Yield the table, all below it, and once each what several places share."""
        yield from self.all()
        yield from {id(each): each for table in self.all() for each in table.shared.values()}.values()


def random_schema(chance):
    """Return a schema of a few tables."""
    names = iter(f"{chance.choice(WORDS)}_{number}" for number in range(1_000))
    top = _entity(chance, names, 3)
    if chance.random() < 0.4:
        top.fields.append("kind")
        for number in range(chance.randint(2, 5)):
            kind = Entity(f"kind {number}", _some(chance, names, 2, 6))
            top.kinds[f"{chance.choice(WORDS)}{number}"] = kind
    if chance.random() < 0.4:
        _share(top, chance, names)
    return top


def _share(top, chance, names):
    """Let an entity stand at many places: in the records, and in what stands below them."""
    entity = Entity("shared", _some(chance, names, 4, 7))
    if chance.random() < 0.5:
        entity.known = [
            {name: f"r{row}" if name == entity.fields[0] else _value(chance) for name in entity.fields}
            for row in range(chance.randint(20, 30))
        ]
    tables = [each for each in top.all() if not each.contains_itself]
    for _ in range(chance.randint(6, 10)):
        chance.choice([top, *tables]).shared[next(names)] = entity


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
    for name, inner in entity.shared.items():
        made[name] = dict(chance.choice(inner.known)) if inner.known else _row(inner, chance, 0)
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


def nested(records, in_markup):
    """Return records as the text of a feed: JSON Lines, or one document of XML."""
    if not in_markup:
        return "\n".join(map(json.dumps, records)).encode()
    return f"<feed>{''.join(_element('top', each) for each in records)}</feed>".encode()


def _element(name, value):
    if isinstance(value, list):
        return "".join(_element(name, each) for each in value)
    if isinstance(value, dict) and value and set(value) <= set(KEYS):
        # As feeds of XML do it: what is data is no name there.
        return "".join(_element(name, {"@key": key} | each) for key, each in value.items())
    inside = (
        "".join(_element(*item) for item in value.items() if item[0] != "@key")
        if isinstance(value, dict)
        else str(value)
    )
    key = f' key="{value["@key"]}"' if isinstance(value, dict) and "@key" in value else ""
    return f"<{name}{key}>{inside}</{name}>"


_ORIGINS = {origin.value for origin in Origin} | {str(origin) for origin in Origin} | {"@key"}


def drafted(feed, **options):
    """Return the columns of each drafted table."""
    layout = tessaron.draft(feed, name="top", **options)
    found = {}
    for table in layout.compiled(secret=b"any").records.tables:
        names = {str(column.source.path[-1]).lstrip("\x1f") for column in table.columns}
        found.setdefault(written_name(table.name), set()).update(names - _ORIGINS)
    return [names for names in found.values() if names]


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
        entities = [each.columns() for each in schema.whole()]
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


def score_of(count, records=120, in_markup=False):
    """Return the score of drafts of `count` schemas, and the numbers of those in which something is amiss."""
    score, amiss = Score(), []
    for number in range(count):
        chance = random.Random(number)
        schema = random_schema(chance)
        if not score.add(schema, drafted(nested(filled(schema, chance, records), in_markup))):
            amiss.append(number)
    return score, amiss


if __name__ == "__main__":
    for in_markup in (False, True):
        found, wrong = score_of(int(sys.argv[1]) if len(sys.argv) > 1 else 200, in_markup=in_markup)
        print("XML" if in_markup else "JSON", found)
        print(f"{len(wrong)} schemas with something amiss: {wrong}")
