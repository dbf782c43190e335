"""The model of a feed file: what is asked of a web API, and how its pages follow each other."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

Text = Annotated[str, Field(strict=True)]


def _is_reference(value: str) -> str:
    if not re.fullmatch(r"env:[A-Za-z_][A-Za-z0-9_]*|file:.+", value):
        raise ValueError('a secret never stands in a feed file: write "env:NAME" or "file:PATH"')
    return value


def _is_address(value: str) -> str:
    parts = urlsplit(value)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.port == 0:
        raise ValueError("expected an address like https://host/path")
    return value


Secret = Annotated[str, Field(strict=True), AfterValidator(_is_reference)]
"""Where a secret stands: `env:NAME` or `file:PATH`."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class SignIn(_Part):
    """How requests say who asks."""

    kind: Literal["bearer", "basic", "header", "parameter"] = Field(description="Where the secret goes.")
    secret: Secret = Field(description="The token, password or key: `env:NAME` or `file:PATH`.")
    user: Text | None = Field(None, description="The name for `basic`.")
    name: Text | None = Field(None, description="The name of the header or parameter.")

    @model_validator(mode="after")
    def _needs(self) -> SignIn:
        wanted = {"basic": "user", "header": "name", "parameter": "name"}.get(self.kind)
        if wanted and getattr(self, wanted) is None:
            raise ValueError(f"{self.kind} needs {wanted}")
        return self


class Paging(_Part):
    """How pages follow each other."""

    kind: Literal["links", "next", "cursor", "number", "offset"] = Field(
        "links",
        description="By a Link header (RFC 8288), by the address or a cursor in the answer, by page "
        "numbers, or by how many records came before.",
    )
    path: Text | None = Field(None, description="JSONPath of the next address, or of the cursor.")
    parameter: Text | None = Field(None, description="The parameter with the cursor, page number or offset.")
    first: int = Field(1, description="The number of the first page.")
    size: int | None = Field(
        None, ge=1, description="Records of a page, as the parameter below asks for them."
    )
    size_parameter: Text | None = Field(None, description="The parameter with the size.")
    total: Text | None = Field(None, description="JSONPath of how many records there are.")
    at_once: int = Field(
        8, ge=1, le=64, description="So many pages are asked for at once, where the total is known."
    )
    most: int = Field(10_000, ge=1, description="So many pages at most.")

    @model_validator(mode="after")
    def _needs(self) -> Paging:
        needed = {
            "next": ("path",),
            "cursor": ("path", "parameter"),
            "number": ("parameter",),
            "offset": ("parameter",),
        }
        missing = [name for name in needed.get(self.kind, ()) if getattr(self, name) is None]
        if missing:
            raise ValueError(f"{self.kind} needs {' and '.join(missing)}")
        return self


class FeedPart(_Part):
    """A feed file."""

    url: Annotated[Text, AfterValidator(_is_address)] = Field(description="What is asked.")
    records: Text | None = Field(None, description="Where the records stand in each answer, as JSONPath.")
    method: Literal["GET", "POST"] = Field("GET", description="How it is asked.")
    parameters: dict[str, str | int] = Field({}, description="Parameters of the address.")
    headers: dict[str, Text] = Field({}, description="Headers of the request; none with a secret.")
    body: dict[str, Any] | None = Field(None, description="What a POST sends, as JSON.")
    sign_in: SignIn | None = Field(None, description="How requests say who asks.")
    pages: Paging = Field(Paging(), description="How pages follow each other.")
    attempts: int = Field(5, ge=1, le=20, description="How often a request is tried.")
    seconds: float = Field(60, gt=0, description="How long an answer may keep still.")


def feed_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a feed file."""
    schema = FeedPart.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Tessaron feed"}
