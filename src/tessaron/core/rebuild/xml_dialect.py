"""Records written as XML 1.0, with the prefixes that the layout has for namespaces."""

from __future__ import annotations

import json
from collections.abc import Mapping
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from tessaron.core.base.arrays import ArrowArray, ArrowRows
from tessaron.core.base.paths import MARKUP, TEXT_STEP
from tessaron.core.base.text_lane import Int64s
from tessaron.core.markup.namespaces import INSTANCE_NAMESPACE
from tessaron.core.plan.rest_plans import WrittenAs
from tessaron.core.rebuild.part_ordering import APART, in_order
from tessaron.core.rebuild.places import TablePlaces
from tessaron.core.types.json_columns import grouped, side_by_side, text, text_null
from tessaron.core.types.written import texts_of

_ATTRIBUTE = MARKUP + "@"
_NIL = f' xmlns:xsi="{INSTANCE_NAMESPACE}" xsi:nil="true"'
_NIL_TEXT = "\x01"
"""What stands for the text of an element that says it is nil, until the element is made; no letter of XML."""
_IN_TEXT = (("&", "&amp;"), ("<", "&lt;"), (">", "&gt;"), ("\r", "&#13;"))
_IN_ATTRIBUTE = (('"', "&quot;"), ("\n", "&#10;"), ("\t", "&#9;"))


class XmlDialect:
    """Writes records as elements.

    Args:
        record_name: The name of the records' elements.
    """

    is_markup = True

    def __init__(self, record_name: str):
        self._record_name = record_name

    def value(self, values: ArrowArray, form: WrittenAs, instead: ArrowArray) -> ArrowArray:
        """Return the values of a column as text of XML; `instead` is what the rest says, or None."""
        texts = texts_of(values, form.type, form.written, form.words)
        if form.type.name == "double":
            texts = _written_out(texts)
        if instead is not None:
            texts = pc.coalesce(_unquoted(instead), texts)
        return texts if form.type.name == "xml" else _replaced(texts, _IN_TEXT)

    def hollow(self, name: str, tokens: ArrowArray) -> ArrowArray:
        """Return empty elements, and such as say that they are nil, given as JSON."""
        if name.startswith(_ATTRIBUTE):
            return pa.nulls(len(tokens), pa.large_string())
        if name == TEXT_STEP:
            return pc.if_else(pc.equal(tokens, "null"), text(_NIL_TEXT), text_null())
        shown = name.removeprefix(MARKUP)
        made = pc.if_else(pc.equal(tokens, "null"), text(f"<{shown}{_NIL}/>"), text(f"<{shown}/>"))
        return pc.if_else(tokens.is_valid(), made, text_null())

    def told(self, tokens: ArrowArray) -> ArrowArray:
        """Return scalars that only the rest of the rows tells of, given as JSON."""
        return _replaced(_unquoted(tokens), _IN_TEXT)

    def row_name(self, places: TablePlaces) -> str:
        """Return the step to the element that a row of a table is."""
        names = [step for step in places.table.rows if isinstance(step, str)]
        return names[-1] if names else MARKUP + self._record_name

    def made(
        self,
        name: str,
        value: ArrowArray,
        members: list[tuple[str, ArrowArray]],
        row_count: int,
        order: ArrowArray,
    ) -> ArrowArray:
        """Return what stands at a place: an attribute, a text, or an element with all that is in it."""
        if name == TEXT_STEP:
            return value if value is not None else pa.nulls(row_count, pa.large_string())
        if name.startswith(_ATTRIBUTE):
            return _attribute(name.removeprefix(_ATTRIBUTE), value, row_count)
        attributes = [each for step, each in members if step.startswith(_ATTRIBUTE)]
        content = [(step, each) for step, each in members if not step.startswith(_ATTRIBUTE)]
        texts = [each for step, each in content if step == TEXT_STEP]
        if value is not None:
            # The text of an element has a column, and where it is odd the rest of its row tells of it too.
            content = [(step, each) for step, each in content if step != TEXT_STEP]
            content.insert(0, (TEXT_STEP, pc.coalesce(value, *texts)))
        attributes, content = _with_nil(attributes, content)
        # Where nothing is said of the order the text stands first.
        content.sort(key=lambda part: part[0] != TEXT_STEP)
        made = _element(name.removeprefix(MARKUP), attributes, [each for _, each in content], row_count)
        if order is None or order.null_count == len(order):
            return made
        rows = np.flatnonzero(order.is_valid().to_numpy(zero_copy_only=False))
        taken = pa.array(rows)
        parts = [(step, each.take(taken)) for step, each in content]
        ordered = in_order(_unquoted(order.take(taken)), parts)
        again = _element(
            name.removeprefix(MARKUP), [each.take(taken) for each in attributes], [ordered], len(rows)
        )
        return pc.replace_with_mask(made, order.is_valid(), again)

    def array(self, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the elements that stand below it, side by side."""
        return grouped(values, above, row_count, "", "", APART)

    def dictionary(self, keys: ArrowArray, values: ArrowArray, above: Int64s, row_count: int) -> ArrowArray:
        """Return for each row above the elements below it."""
        return self.array(values, above, row_count)

    def row(self, places: TablePlaces, made: ArrowArray, names: ArrowArray = None) -> ArrowArray:
        """Return rows; where nothing stands in them as empty elements. `names` are those of the elements."""
        name = self.row_name(places).removeprefix(MARKUP)
        made = pc.fill_null(made, f"<{name}/>")
        return made if names is None else _renamed(made, name, names)


def _with_nil(
    attributes: list[ArrowArray], content: list[tuple[str, ArrowArray]]
) -> tuple[list[ArrowArray], list[tuple[str, ArrowArray]]]:
    """Return what stands in elements, with the attribute of those whose text says that they are nil."""
    for at, (step, each) in enumerate(content):
        is_nil = pc.fill_null(pc.equal(each, _NIL_TEXT), False) if step == TEXT_STEP else None
        if is_nil is not None and pc.any(is_nil).as_py():
            said = pc.if_else(is_nil, text(_NIL), text_null())
            plain = pc.if_else(is_nil, text_null(), each)
            return [*attributes, said], [*content[:at], (step, plain), *content[at + 1 :]]
    return attributes, content


def _renamed(elements: ArrowArray, name: str, names: ArrowArray) -> ArrowArray:
    """Return elements of one name with others, null where they keep their own."""
    names = pc.fill_null(pc.cast(names, pa.large_string()), name)
    ends = text(f"</{name}>")
    is_whole = pc.ends_with(elements, f"</{name}>")
    inside = pc.utf8_slice_codeunits(elements, len(name) + 1)
    content = pc.if_else(is_whole, pc.utf8_slice_codeunits(inside, 0, -len(ends.as_py())), inside)
    closing = pc.if_else(is_whole, pc.binary_join_element_wise(text("</"), names, text(">"), text("")), "")
    return pc.binary_join_element_wise(text("<"), names, content, closing, text(""))


def _written_out(texts: ArrowArray) -> ArrowArray:
    """Return doubles without exponents, and negative zeros with a fraction: else they are no numbers here."""
    odd = pc.match_substring_regex(texts, "e|^-0$")
    if not pc.any(odd).as_py():
        return texts
    plain = [None if each is None else _plainly(each) for each in texts.filter(odd).to_pylist()]
    return pc.replace_with_mask(texts, odd, pa.array(plain, pa.large_string()))


def _plainly(text: str) -> str:
    return "-0.0" if text == "-0" else format(Decimal(text), "f")


def _replaced(texts: ArrowArray, pairs: tuple[tuple[str, str], ...]) -> ArrowRows:
    for plain, escaped in pairs:
        if pc.any(pc.match_substring(texts, plain)).as_py():
            texts = pc.replace_substring(texts, plain, escaped)
    return texts


def _attribute(name: str, value: ArrowArray, row_count: int) -> ArrowArray:
    if value is None:
        return pa.nulls(row_count, pa.large_string())
    return pc.binary_join_element_wise(
        text(f' {name}="'), _replaced(value, _IN_ATTRIBUTE), text('"'), text("")
    )


def _element(
    name: str, attributes: list[ArrowArray], content: list[ArrowArray], row_count: int
) -> ArrowArray:
    if not attributes and not content:
        return pa.nulls(row_count, pa.large_string())
    there = None
    for each in (*attributes, *content):
        there = each.is_valid() if there is None else pc.or_(there, each.is_valid())
    parts = [text(f"<{name}")]
    parts += [side_by_side(attributes)] if attributes else []
    if content:
        whole = side_by_side(content)
        if pc.any(pc.match_substring(whole, APART)).as_py():
            whole = pc.replace_substring(whole, APART, "")
        parts += [text(">"), whole, text(f"</{name}>")]
    else:
        parts += [text("/>")]
    whole = pc.binary_join_element_wise(*parts, text(""))
    return pc.if_else(there, whole, text_null())


def with_namespaces(element: str, namespaces: Mapping[str, str]) -> str:
    """Return the text of an element that declares these namespaces, by prefix."""
    declared = "".join(f' xmlns:{prefix}="{_escaped(uri)}"' for prefix, uri in namespaces.items())
    end = min(at for at in (element.find(letter) for letter in " />") if at > 0)
    return element[:end] + declared + element[end:]


def _escaped(uri: str) -> str:
    return uri.replace("&", "&amp;").replace("<", "&lt;").replace('"', "&quot;")


def _unquoted(tokens: ArrowArray) -> ArrowArray:
    """Return strings of JSON as texts; what is another scalar as it is written."""
    encoded = tokens.dictionary_encode()
    plain = [json.loads(each) if each.startswith('"') else each for each in encoded.dictionary.to_pylist()]
    return pa.array(plain, pa.large_string()).take(encoded.indices)
