"""Random chunks of XML with all that makes names and texts mean other things than they say."""

import random

import numpy as np

from tessaron.core.cutting.xml_chunks import Context, RecordRun, XmlChunk
from tessaron.core.markup.namespaces import INSTANCE_NAMESPACE, Prefixes
from tessaron.core.markup.tokens import declarations_in
from tessaron.core.tape.tape import Tape

DECLARATIONS = b"""<!ENTITY quay "north &#10; quay"><!ENTITY crane "&quay; &amp; C1"><!ENTITY none "">
<!ENTITY crate "<box/>"><!ENTITY less "&#38;lt;"><!ENTITY quay "again"><!ENTITY number "17">"""
_SPACES = ("urn:one", "urn:two", INSTANCE_NAMESPACE)
_PREFIXES = ("", "p:", "q:", "xsi:")
_NAMES = ("call", "stay", "v")
_TEXTS = ("", " ", "\n\t ", "7", " 0.10 ", "-0", "9" * 20, "é  x\r\n y", "a", "&#x41;&lt;&#13;", "<![CDATA[ <b> &amp;]]>",
          "<![CDATA[]]>", "<!-- no -->", "<?crane 1?>", "true", "1e5")  # fmt: skip
_REFERENCES = ("&quay;", "&crane;", " &none;", "&less;", "&number;", "&crate;")


def markup_chunk(chance: random.Random) -> XmlChunk:
    """Return a chunk of a few records, most of them well-formed."""
    has_type = chance.random() < 0.4
    texts = _TEXTS + _REFERENCES * has_type
    declared = {
        "": chance.choice(("", "urn:one")),
        "p": "urn:one",
        "q": chance.choice(_SPACES),
        "xsi": INSTANCE_NAMESPACE,
    }
    pieces = [
        _element(chance, texts, 4).encode() + b"\n" * chance.randrange(2) for _ in range(chance.randint(1, 4))
    ]
    data = b"".join(pieces)
    starts = np.cumsum([0, *map(len, pieces)])[:-1]
    prefixes = Prefixes()
    for prefix, space in [*declared.items(), *declarations_in(data)]:
        prefixes.learn(prefix, space)
    above = tuple(
        (f"../{name}", chance.choice(("5", " x ", "0.10"))) for name in _NAMES[: chance.randrange(3)]
    )
    runs = [RecordRun(0, 0, "s", 0, 1, 1, 1, above)]
    if len(starts) > 2:
        runs.append(RecordRun(int(starts[1]), 0, "s", 0, 1, 1, 2, above[:1]))
    context = Context(tuple(declared.items()), DECLARATIONS * has_type, chance.random() < 0.2)
    return XmlChunk(data, starts.astype(np.int64), tuple(runs), context, prefixes.by_namespace())


def named_values(tape: Tape) -> tuple[object, ...]:
    """Return all that a tape says, the names in full: their numbers may be others."""
    steps = [*tape.steps(), None]
    names = [steps[number] for number in np.frombuffer(tape.names, np.int32)]
    lanes = (tape.kinds, tape.parents, tape.values, tape.data, tape.offsets.tobytes())
    return names, lanes, tape.left_out, tape.faults


def _element(chance: random.Random, texts: tuple[str, ...], depth: int) -> str:
    name = chance.choice(_PREFIXES) + chance.choice(_NAMES)
    attributes = {}
    if chance.random() < 0.2:
        attributes["xmlns"] = chance.choice(("", *_SPACES))
    if chance.random() < 0.2:
        attributes["xmlns:" + chance.choice("pq")] = chance.choice(_SPACES)
    if chance.random() < 0.15:
        attributes["xml:space"] = chance.choice(("preserve", "default"))
    if chance.random() < 0.2:
        attributes["xsi:nil"] = chance.choice(("true", " 1", "no"))
    if chance.random() < 0.4:
        value = chance.choice([text for text in texts if "<" not in text and "crate" not in text])
        attributes[chance.choice(("id", "p:id", "q:id"))] = value
    written = "".join(f" {key}='{value}'" for key, value in attributes.items())
    content = [chance.choice(texts)]
    for _ in range(chance.randrange(4) if depth else 0):
        content += [_element(chance, texts, depth - 1), chance.choice(texts)]
    inside = "".join(content)
    return f"<{name}{written}>{inside}</{name}>" if inside or chance.random() < 0.5 else f"<{name}{written}/>"


def xml_document(chance: random.Random, depth: int = 3) -> str:
    """Return a small document with attributes, mixed content, comments, nils and two namespaces."""
    spaces = 'xmlns:x="u:x" xmlns:y="u:y" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"'
    return f"<r {spaces}>{_part(chance, depth)}{_part(chance, depth - 1)}</r>"


def _part(chance: random.Random, depth: int) -> str:
    name = chance.choice(("", "", "x:", "y:")) + chance.choice("abcd")
    attributes = "".join(
        f' {each}="{chance.choice(("1", "t", "&amp;", ""))}"'
        for each in chance.sample(("p", "q", "x:p"), chance.randint(0, 2))
    )
    attributes += ' xsi:nil="true"' if chance.random() < 0.05 else ""
    inner = "".join(
        chance.choice(("", " ", "tx", "7", "<!--c-->", "<?pi?>"))
        + (_part(chance, depth - 1) if depth and chance.random() < 0.7 else "")
        for _ in range(chance.randint(0, 4))
    )
    return f"<{name}{attributes}>{inner}</{name}>"
