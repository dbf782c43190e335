"""The model of a feed file: what is asked of a web API, and how its pages follow each other."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from pydantic import (
    AfterValidator,
    BaseModel,
    ConfigDict,
    Discriminator,
    Field,
    JsonValue,
    Tag,
    model_validator,
)

Text = Annotated[str, Field(strict=True)]
Name = Annotated[str, Field(strict=True, pattern=r"^[a-z][a-z0-9_]*$")]
"""What stands in braces where it is filled in."""


def _is_reference(value: str) -> str:
    if not re.fullmatch(r"env:[A-Za-z_][A-Za-z0-9_]*|file:.+|keyring:[^/]+/.+|\{[a-z][a-z0-9_]*\}", value):
        raise ValueError(
            'a secret never stands in a feed file: write "env:NAME", "file:PATH" or "keyring:SERVICE/USER"'
        )
    return value


def _is_address(value: str) -> str:
    parts = urlsplit(value)
    if parts.scheme not in ("http", "https") or not parts.hostname or parts.port == 0:
        raise ValueError("expected an address like https://host/path")
    return value


def _leads_somewhere(value: str) -> str:
    if not re.match(r"https?://[^/]|/|\{", value):
        raise ValueError("expected an address like https://host/path, or /path at the host of the feed")
    return value


Secret = Annotated[str, Field(strict=True), AfterValidator(_is_reference)]
"""Where a secret stands: `env:NAME`, `file:PATH`, `keyring:SERVICE/USER`, or `{NAME}` from a step before."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class SignIn(_Part):
    """How requests say who asks."""

    kind: Literal["bearer", "basic", "header", "parameter", "oauth"] = Field(
        description="Where the secret goes; `oauth`: it buys a token (RFC 6749), which is renewed when it "
        "expires."
    )
    secret: Secret = Field(
        description="The token, password, key, or secret of the client: `env:NAME`, `file:PATH`, "
        "`keyring:SERVICE/USER`, or `{NAME}` that a step before took."
    )
    user: Text | None = Field(None, description="The name for `basic`.")
    name: Text | None = Field(None, description="The name of the header or parameter.")
    token_url: Annotated[Text, AfterValidator(_leads_somewhere)] | None = Field(
        None, description="Where `oauth` gets its token."
    )
    client: Text | None = Field(None, description="The name of the client for `oauth`.")
    client_in: Literal["header", "form"] = Field(
        "header", description="Whether the client says who it is by Basic, or in the form."
    )
    scope: Text | None = Field(None, description="What the token of `oauth` is to be good for.")
    refresh: Secret | None = Field(
        None, description="A refresh token; `oauth` begins with that rather than with the client alone."
    )
    over_http: bool = Field(
        False, description="Whether secrets may go to another machine without encryption. Better not."
    )

    @model_validator(mode="after")
    def _needs(self) -> SignIn:
        needed = {
            "basic": ("user",),
            "header": ("name",),
            "parameter": ("name",),
            "oauth": ("token_url", "client"),
        }
        missing = [name for name in needed.get(self.kind, ()) if getattr(self, name) is None]
        if missing:
            raise ValueError(f"{self.kind} needs {' and '.join(missing)}")
        return self


class Paging(_Part):
    """How pages follow each other."""

    kind: Literal["links", "next", "cursor", "number", "offset"] = Field(
        "links",
        description="By a Link header (RFC 8288), by the address or a cursor in the answer, by page "
        "numbers, or by how many records came before.",
    )
    path: Text | None = Field(
        None, description="JSONPath of the next address, or of the cursor; XPath for XML."
    )
    header: Text | None = Field(
        None, description="The header of answers with the next address or the cursor, instead of a path."
    )
    parameter: Text | None = Field(None, description="The parameter with the cursor, page number or offset.")
    first: int = Field(1, description="The number of the first page.")
    size: int | None = Field(
        None, ge=1, description="Records of a page, as the parameter below asks for them."
    )
    size_parameter: Text | None = Field(None, description="The parameter with the size.")
    total: Text | None = Field(None, description="JSONPath of how many records there are; XPath for XML.")
    total_header: Text | None = Field(
        None, description="The header of answers with how many records there are, instead of a path."
    )
    at_once: int = Field(
        8, ge=1, le=64, description="So many pages are asked for at once, where the total is known."
    )
    most: int = Field(10_000, ge=1, description="So many pages at most.")
    within: Literal["address", "body"] = Field(
        "address",
        description="Whether the parameters of pages stand in the address, or in the body or form of a POST.",
    )

    @model_validator(mode="after")
    def _needs(self) -> Paging:
        needed = {
            "next": ("path",),
            "cursor": ("path", "parameter"),
            "number": ("parameter",),
            "offset": ("parameter",),
        }
        missing = [name for name in needed.get(self.kind, ()) if getattr(self, name) is None]
        if self.header is not None and "path" in missing:
            missing.remove("path")
        if missing:
            raise ValueError(f"{self.kind} needs {' and '.join(missing)}")
        for one, other in (("path", "header"), ("total", "total_header")):
            if getattr(self, one) is not None and getattr(self, other) is not None:
                raise ValueError(f"{one} and {other} say the same; one of them")
        return self


class Moment(_Part):
    """A moment, seen from now, as text."""

    days: int = Field(0, description="So many days from now; below 0 for before.")
    hours: int = Field(0, description="So many hours more.")
    format: Text = Field("%Y-%m-%d", description="How it is written, as strftime has it; in UTC.")


def _kind_of_value(value: object) -> str:
    return "text" if isinstance(value, str) else "number" if isinstance(value, int) else "moment"


Value = Annotated[
    Annotated[Text, Tag("text")] | Annotated[int, Tag("number")] | Annotated[Moment, Tag("moment")],
    Discriminator(_kind_of_value),
]


class RequestPart(_Part):
    """A request. `{name}` in its texts is filled in: a value, a secret, or what a step before took."""

    method: Literal["GET", "POST"] = Field("GET", description="How it is asked.")
    parameters: dict[str, str | int] = Field({}, description="Parameters of the address.")
    headers: dict[str, Text] = Field({}, description="Headers of the request; none with a secret of its own.")
    body: JsonValue = Field(None, description="What a POST sends, as JSON.")
    form: dict[str, str | int] = Field({}, description="What a POST sends, as a form.")
    xml: Text | None = Field(None, description="What a POST sends, as XML.")

    @model_validator(mode="after")
    def _sends_one(self) -> RequestPart:
        given = [
            name for name in ("body", "form", "xml") if name in self.model_fields_set and getattr(self, name)
        ]
        if len(given) > 1:
            raise ValueError(f"expected one of body, form and xml, got {' and '.join(given)}")
        if given and given != ["body"] and self.method != "POST":
            raise ValueError(f'{given[0]} needs method = "POST"')
        return self


class StepPart(RequestPart):
    """What is asked once before the records are, for what its answer says."""

    url: Annotated[Text, AfterValidator(_leads_somewhere)] = Field(description="What is asked.")
    take: dict[Name, Text] = Field(
        {}, description="Values of the answer, by name: JSONPath, or XPath for XML. They are filled in later."
    )
    secrets: dict[Name, Text] = Field(
        {}, description="The same for secrets: they are shown and kept nowhere."
    )
    signed: bool = Field(False, description="Whether it says who asks as the requests of records do.")


class EachPart(RequestPart):
    """One more request for each record, or for each of what a path leads to in it."""

    path: Text = Field(description="What `{each}` stands for: a path in a record, to an address or id.")
    url: Annotated[Text, AfterValidator(_leads_somewhere)] = Field(
        "{+each}", description="What is asked, with `{each}` in it."
    )
    under: Text = Field(description="The member of the record that the answer becomes.")
    records: Text | None = Field(None, description="What of the answer is taken, as a path; else all of it.")
    at_once: int = Field(8, ge=1, le=64, description="So many are asked for at once.")
    if_missing: Literal["stop", "null"] = Field(
        "stop", description="What an answer of 404 means: the end of the run, or that there is nothing."
    )


class MarkPart(_Part):
    """How far the last run came: `{mark}` is the largest value that its records had at a path."""

    path: Text = Field(description="The path in a record: of a number, or of a time as ISO 8601 writes it.")
    first: Annotated[Text, Tag("text")] | int = Field(description="What `{mark}` is on the first run.")


class FeedPart(RequestPart):
    """A feed file."""

    url: Annotated[Text, AfterValidator(_is_address)] = Field(description="What is asked.")
    records: Text | None = Field(
        None, description="Where the records stand in each answer, as JSONPath; XPath for XML."
    )
    sign_in: SignIn | None = Field(None, description="How requests say who asks.")
    pages: Paging = Field(Paging(), description="How pages follow each other.")
    values: dict[Name, Value] = Field({}, description="What `{name}` stands for: text, number, or a moment.")
    secrets: dict[Name, Secret] = Field(
        {}, description="The same for secrets: `env:NAME`, `file:PATH` or `keyring:SERVICE/USER`."
    )
    before: list[StepPart] = Field([], description="What is asked before, in this order.")
    each: EachPart | None = Field(None, description="What is asked for each record.")
    mark: MarkPart | None = Field(None, description="How far the last run came.")
    attempts: int = Field(5, ge=1, le=20, description="How often a request is tried.")
    seconds: float = Field(60, gt=0, description="How long an answer may keep still.")


def feed_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of a feed file."""
    schema = FeedPart.model_json_schema()
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Tessaron feed"}
