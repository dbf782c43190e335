"""Reading the text of a layout file into its model; what is wrong becomes faults with lines."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable
from dataclasses import dataclass
from difflib import get_close_matches
from typing import get_args

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from tessaron.core.base.parsed_values import Parsed
from tessaron.core.base.visible import in_quotes
from tessaron.core.expressions.expression_faults import nearest
from tessaron.core.layout.layout_faults import LayoutError, LayoutFault
from tessaron.core.layout.layout_model import ColumnPart, LayoutPart, ReadingPart, StructurePart, TablePart
from tessaron.core.layout.toml_lines import KeyLines, Keys, key_lines

_TOML_LINE = re.compile(r"\(at line (\d+), column (\d+)\)")
_WORDS = {
    "string_type": "a text in quotes",
    "bool_type": "true or false",
    "int_type": "a whole number",
    "list_type": "a list in square brackets",
    "dict_type": "a table",
    "model_type": 'a table, such as { path = "$.name", type = "text" }',
    "model_attributes_type": 'a table, such as { path = "$.name", type = "text" }',
}


@dataclass(frozen=True, slots=True)
class CheckedLayout:
    """A layout file whose form was checked.

    Attributes:
        part: Its model; what is wrong in form is left out of it, or taken as it was probably meant.
        lines: Where its keys stand.
        faults: What is wrong in form.
    """

    part: LayoutPart
    lines: KeyLines
    faults: tuple[LayoutFault, ...] = ()


def check_layout(text: str, source: str = "layout") -> CheckedLayout:
    """Return the model of a layout file's text, with the mistakes of form, so that others can be found too.

    Raises:
        LayoutError: When it is not TOML, or has no tables.
    """
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise LayoutError([_toml_fault(str(error), text)], source) from error
    lines = key_lines(text)
    faults: list[LayoutFault] = []
    while True:
        try:
            return CheckedLayout(LayoutPart.model_validate(data), lines, tuple(faults))
        except ValidationError as error:
            found = _faults_of(error, data, lines)
            faults += found
            mended = [_mend(data, fault.keys, _choices_at(error, fault.keys, data)) for fault in found]
            if not any(mended):
                raise LayoutError(faults, source) from error


def _choices_at(error: ValidationError, keys: Keys, data: object) -> list[str]:
    """Return the words that may stand at a key, where only some may."""
    for found in error.errors(include_url=False, include_context=True):
        if found["type"] == "literal_error" and _keys_in(found["loc"], data) == keys:
            return _choices(found)
    return []


def _choices(found: ErrorDetails) -> list[str]:
    return re.findall(r"'((?:[^'\\]|\\.)*)'", found["ctx"]["expected"])


def _mend(data: Parsed, keys: Keys, choices: list[str]) -> bool:
    """Take out what is wrong, or put in what was probably meant; say whether it was there."""
    for key in keys[:-1]:
        data = data[int(key) - 1] if isinstance(data, list) else data.get(key)
        if data is None:
            return False
    if isinstance(data, list):
        data.pop(int(keys[-1]) - 1)
        return True
    if not keys or keys[-1] not in data:
        return False
    value = data.pop(keys[-1])
    if meant := get_close_matches(str(value), choices, 1):
        data[keys[-1]] = meant[0]
        return True
    near = get_close_matches(keys[-1], sorted(_fields_beside(keys)), 1)
    if near and keys[-1] not in _fields_beside(keys) and near[0] not in data:
        data[near[0]] = value
    return True


def _toml_fault(message: str, text: str) -> LayoutFault:
    found = _TOML_LINE.search(message)
    line = int(found.group(1)) if found else text.rstrip("\n").count("\n") + 1
    plain = _TOML_LINE.sub("", message).replace("(at end of document)", "").strip()
    return LayoutFault((), f"not TOML: {plain}", line)


def _faults_of(error: ValidationError, data: object, lines: KeyLines) -> list[LayoutFault]:
    faults: dict[Keys, LayoutFault] = {}
    for found in error.errors(include_url=False, include_context=True):
        keys = _keys_in(found["loc"], data)
        fault = LayoutFault(keys, _message(found, keys), lines.line_of(keys))
        faults.setdefault(keys, fault)
    return list(faults.values())


def _keys_in(location: Iterable[object], data: object) -> Keys:
    """Return the keys of a location: what pydantic adds for the kinds of a choice is left out."""
    keys: list[str] = []
    at = data
    for part in location:
        if isinstance(at, dict) and isinstance(part, str) and part in at:
            keys.append(part)
            at = at[part]
        elif isinstance(at, list) and isinstance(part, int) and part < len(at):
            keys.append(str(part + 1))
            at = at[part]
    if isinstance(at, dict) and isinstance(part, str) and part not in at and part in _ALL_KEYS:
        keys.append(part)
    return tuple(keys)


def _message(found: ErrorDetails, keys: Keys) -> str:
    code, given = found["type"], found.get("input")
    if code == "extra_forbidden":
        return f"no such key; {nearest(keys[-1], sorted(_fields_beside(keys)))}"
    if code == "missing":
        return "expected, but it is not there"
    if code == "literal_error":
        choices = _choices(found)
        shown = ", ".join(map(repr, choices))
        return f"expected one of {shown}, got {in_quotes(given)}; {nearest(str(given), choices)}"
    wanted = _WORDS.get(code, found["msg"].removeprefix("Input should be "))
    return f"expected {wanted}, got {_shown(given)}"


def _shown(given: object) -> str:
    text = repr(given)
    return text if len(text) <= 60 else text[:57] + "…"


def _models(model: type[BaseModel]) -> dict[str, type[BaseModel]]:
    """Return the model of each field that has one, also where it stands in a mapping."""
    found: dict[str, type[BaseModel]] = {}
    for name, field in model.model_fields.items():
        for each in (field.annotation, *get_args(field.annotation)):
            if isinstance(each, type) and issubclass(each, BaseModel):
                found[name] = each
    return found


def _fields_beside(keys: Keys) -> set[str]:
    """Return the keys that may stand where the last of these does."""
    model: type[BaseModel] = LayoutPart
    rest = list(keys[:-1])
    while rest:
        inner = _models(model).get(rest.pop(0))
        if inner is None:
            return set()
        is_mapping = inner.__name__ in ("TablePart", "ColumnPart")
        if is_mapping and rest:
            rest.pop(0)
        model = inner
    return set(model.model_fields)


_MODELS: tuple[type[BaseModel], ...] = (LayoutPart, ReadingPart, StructurePart, TablePart, ColumnPart)
_ALL_KEYS = {name for model in _MODELS for name in model.model_fields}
