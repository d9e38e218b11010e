"""Parsing XML that somebody else wrote."""

from __future__ import annotations

from io import BytesIO
from xml.etree.ElementTree import Element, ParseError

from defusedxml import DefusedXmlException
from defusedxml.ElementTree import iterparse

from gefa.core.errors import SourceError
from gefa.core.read.limits import MAX_DEPTH, MAX_PARTS, MAX_XML_BYTES

_MAX_ELEMENTS = 50 * MAX_PARTS


def parse(data: bytes, file: str, what: str) -> Element:
    """The root element of ``data``; SourceError if it is broken, too deep or an entity trap."""
    if len(data) > MAX_XML_BYTES:
        raise SourceError(
            f"{what} is {len(data) / 1e6:,.0f} MB; the limit is {MAX_XML_BYTES / 1e6:,.0f} MB.",
            file=file,
            advice="Simplify the drawing or split it into several files.",
        )
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


def local_name(qualified: object) -> str:
    """``{namespace}name`` to ``name``; empty for comments and processing instructions."""
    return qualified.rpartition("}")[2] if isinstance(qualified, str) else ""
