"""Parsing XML that somebody else wrote."""

from __future__ import annotations

import re
import zlib
from io import BytesIO
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse

from gefa.core.errors import SourceError
from gefa.core.read.limits import MAX_DEPTH, MAX_PARTS, MAX_XML_BYTES

_MAX_ELEMENTS = 50 * MAX_PARTS


GZIP_START = b"\x1f\x8b\x08"
_MOST_ENTITIES = 60
_DOCTYPE = re.compile(rb"<!DOCTYPE[^\[<>]{0,1000}\[")
_ENTITY = re.compile(
    rb"""<!ENTITY\s+([A-Za-z_][\w.-]{0,60})\s+(?:"([^"<&%]{0,300})"|'([^'<&%]{0,300})')\s*>"""
)
_HEAD_BYTES = 64_000
"""of a file, within which its DOCTYPE ends"""


def parse(data: bytes, file: str, what: str) -> Element:
    """The root element of ``data``, which may be compressed by gzip.

    SourceError if it is broken, too deep or an entity trap. Entities that stand for plain text, as
    programs write for namespaces, are replaced.
    """
    if data.startswith(GZIP_START):
        data = _unpacked(data, file, what)
    if len(data) > MAX_XML_BYTES:
        raise SourceError(
            f"{what} is {len(data) / 1e6:,.0f} MB; the limit is {MAX_XML_BYTES / 1e6:,.0f} MB.",
            file=file,
            advice="Simplify the drawing or split it into several files.",
        )
    data = _without_entities(data)
    depth = count = 0
    root: Element | None = None
    try:
        for event, element in iterparse(BytesIO(data), events=("start", "end")):
            if event == "end":
                depth -= 1
                continue
            root = element if root is None else root
            depth += 1
            count += 1
            if depth > MAX_DEPTH or count > _MAX_ELEMENTS:
                raise SourceError(
                    f"{what} is nested deeper than {MAX_DEPTH} levels"
                    f" or holds more than {_MAX_ELEMENTS:,} elements.",
                    file=file,
                    advice="Flatten its groups and bring it in again.",
                )
    except ParseError as error:
        raise SourceError(
            f"{what} is not well-formed XML ({error}).",
            file=file,
            advice="Save it again from the program that made it.",
        ) from error
    except (DefusedXmlException, ValueError, LookupError) as error:
        raise SourceError(
            f"{what} declares entities or an encoding that is refused ({type(error).__name__}).",
            file=file,
            advice="Save it as plain SVG without a DOCTYPE that declares entities.",
        ) from error
    if root is None:
        raise SourceError(f"{what} is empty.", file=file, advice="Save it again.")
    return root


def _unpacked(data: bytes, file: str, what: str) -> bytes:
    """Never unpacks more than one byte beyond the limit."""
    try:
        return zlib.decompressobj(31).decompress(data, MAX_XML_BYTES + 1)
    except zlib.error as error:
        raise SourceError(
            f"{what} is packed by gzip and cannot be unpacked: it is damaged.",
            file=file,
            advice="Save it again, or save it as plain SVG.",
        ) from error


def _without_entities(data: bytes) -> bytes:
    """The document with the entities of its DOCTYPE replaced, if all are plain text; otherwise
    unchanged, for the parser to refuse."""
    opened = _DOCTYPE.search(data[:_HEAD_BYTES])
    if opened is None:
        return data
    end = data.find(b"]", opened.end(), _HEAD_BYTES)
    closed = data.find(b">", end) if end >= 0 else -1
    declared = data[opened.end() : end]
    if closed < 0 or declared.count(b"<!") > _MOST_ENTITIES:
        return data
    entities = {name: one or other for name, one, other in _ENTITY.findall(declared)}
    if _ENTITY.sub(b"", declared).strip() or not entities:
        return data
    body = data[closed + 1 :]
    if len(body) + body.count(b"&") * 300 > MAX_XML_BYTES:
        return data
    named = re.compile(b"&(" + b"|".join(map(re.escape, entities)) + b");")
    return data[: opened.start()] + named.sub(lambda m: _escaped(entities[m[1]]), body)


def _escaped(text: bytes) -> bytes:
    return text.replace(b'"', b"&quot;").replace(b"'", b"&apos;").replace(b">", b"&gt;")


def local_name(qualified: object) -> str:
    """``{namespace}name`` to ``name``; empty for comments and processing instructions."""
    return qualified.rpartition("}")[2] if isinstance(qualified, str) else ""
