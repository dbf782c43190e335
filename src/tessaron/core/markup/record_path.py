"""Where the records stand in XML documents, as far as tags alone can tell: names from the root down."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

from tessaron.core.markup.namespaces import Prefixes


class Name(NamedTuple):
    """The name of an element: its namespace (empty for none) and its local part."""

    namespace: str
    local: str

    def shown(self, prefixes: Prefixes) -> str:
        """Return it as paths spell it."""
        return prefixes.name(self.namespace, self.local)

    @property
    def clark(self) -> str:
        """The name as lxml spells it: `{namespace}local`."""
        return f"{{{self.namespace}}}{self.local}" if self.namespace else self.local


@dataclass(frozen=True, slots=True)
class NameTest:
    """One step of a path: a name, or any (`*`) of a namespace or of all (None)."""

    namespace: str | None
    local: str

    def fits(self, name: Name) -> bool:
        """Say whether an element of that name is meant."""
        return self.local in ("*", name.local) and self.namespace in (None, name.namespace)


@dataclass(frozen=True, slots=True)
class RecordPath:
    """The way from the root to the records.

    Attributes:
        tests: A test for each element on the way, the record last.
        predicates: XPath 1.0 predicates that records must fulfil, as they are written, brackets included.
    """

    tests: tuple[NameTest, ...]
    predicates: str = ""

    def goes_on(self, depth: int, name: Name) -> bool:
        """Say whether the way leads through an element `depth` below the root, if through that above it."""
        return depth < len(self.tests) and self.tests[depth].fits(name)

    @property
    def is_root(self) -> bool:
        """Whether the documents themselves are the records."""
        return len(self.tests) == 1

    def shown(self, prefixes: Prefixes) -> str:
        """Return the path as XPath."""
        steps = []
        for test in self.tests:
            prefix = prefixes.by_namespace().get(test.namespace or "")
            steps.append(f"{prefix}:{test.local}" if prefix else test.local)
        return "/" + "/".join(steps) + self.predicates


ANY_ROOT = RecordPath((NameTest(None, "*"),))
"""Every document is a record, whatever its name."""


def parse_name_test(text: str, namespaces: Mapping[str, str]) -> NameTest:
    """Return the test that one step of a path spells: `name`, `p:name`, `p:*` or `*`.

    Raises:
        KeyError: With a prefix that stands for no namespace.
    """
    prefix, colon, local = text.rpartition(":")
    if colon:
        return NameTest(namespaces[prefix], local)
    return NameTest(None if local == "*" else "", local)
