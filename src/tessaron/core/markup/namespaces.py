"""Namespaces (Namespaces in XML 1.0): one prefix for each, the same in all documents of a run."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Final

from tessaron.core.base.errors import UsageError
from tessaron.core.base.visible import in_quotes

XML_NAMESPACE: Final = "http://www.w3.org/XML/1998/namespace"
INSTANCE_NAMESPACE: Final = "http://www.w3.org/2001/XMLSchema-instance"
_RESERVED = {XML_NAMESPACE: "xml"}
_WORD = re.compile(r"[A-Za-z][A-Za-z]+")
_PREFIX = re.compile(r"[^\W\d][\w.-]*\Z")
_NO_WORD = re.compile(r"(?:v|ver|version|urn|https?|www|ns|xmlns)\Z", re.IGNORECASE)
_LONGEST = 16


class Prefixes:
    """Hands out a prefix for each namespace, in the order in which they are first seen.

    A namespace keeps the prefix that a document gives it, unless another has that already. The default
    namespace gets one too, as paths of XPath 1.0 need it: the last word of its name.

    Args:
        given: Namespaces by prefix, as the user wants them.

    Raises:
        UsageError: When a given prefix is no name.
    """

    def __init__(self, given: Mapping[str, str] | None = None) -> None:
        self._prefixes: dict[str, str] = dict(_RESERVED)
        for prefix, namespace in (given or {}).items():
            if not _PREFIX.match(prefix):
                raise UsageError(
                    f"expected a prefix that is a name, got {in_quotes(prefix)} for {in_quotes(namespace)}"
                )
            if prefix == "xml" and namespace != XML_NAMESPACE:
                raise UsageError(f"the prefix xml stands for {XML_NAMESPACE} always")
            self._prefixes[namespace] = prefix
        self._taken = {"xmlns", *self._prefixes.values()}
        self._numbers: dict[str, int] = {}

    def learn(self, prefix: str, namespace: str) -> None:
        """Take in a declaration of a document."""
        if namespace and namespace not in self._prefixes:
            self._prefixes[namespace] = self._free(prefix or _word_of(namespace))

    def _free(self, wanted: str) -> str:
        prefix, number = wanted, self._numbers.get(wanted, 1)
        while prefix in self._taken:
            number += 1
            prefix = f"{wanted}{number}"
        self._numbers[wanted] = number
        self._taken.add(prefix)
        return prefix

    def by_namespace(self) -> dict[str, str]:
        """Return the prefix of each namespace seen, `xml` included."""
        return dict(self._prefixes)

    def by_prefix(self) -> dict[str, str]:
        """Return the namespace of each prefix, without `xml`, in the order of first sight."""
        return {
            prefix: namespace for namespace, prefix in self._prefixes.items() if namespace not in _RESERVED
        }

    def name(self, namespace: str | None, local: str) -> str:
        """Return a name as paths spell it: with the prefix of its namespace, if it has one."""
        return f"{self._prefixes[namespace]}:{local}" if namespace in self._prefixes else local


def _word_of(namespace: str) -> str:
    """Return the last word in the name of a namespace that is no version: a prefix to remember it by."""
    words = [word for word in _WORD.findall(namespace.rstrip("/#")) if not _NO_WORD.match(word)]
    return words[-1].lower()[:_LONGEST] if words else "ns"
