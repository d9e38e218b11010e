"""A drawn part as an SVG file: cleaned, its numbers rounded to what shows, and compared with the
part before anybody gets it."""

from __future__ import annotations

import gzip
import hashlib
import re
from math import ceil, log10
from typing import Any
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

import pyvips
from scour import scour

from gefa.core.errors import NotDrawable, SourceError
from gefa.core.geometry import Rect, Size
from gefa.core.pixels import resize, with_alpha
from gefa.core.read import xml
from gefa.core.read.document import Document, Part
from gefa.core.read.svg.elements import XLINK

FINEST = 0.02
"""px at the file's natural size by which a coordinate may be off: a sixteenth of a px at 3x"""
DIGITS = (4, 9)
"""fewest and most significant digits of a number"""
_MEAN, _BLOCK, _IN_BLOCK = 0.7, 16, 14.0
"""levels (0..255) by which the file may differ from the part: on average, and on average in any
block of so many px a side. A missing dot shows in a block, an edge off by a hundredth of a px does
not"""
_COMPARED = 1_600
"""px of the longer side at which both are drawn to compare them, at most"""
_XLINK_HREF = f"{{{XLINK}}}href"
_REFERENCE = re.compile(r"""((?:url\(\s*['"]?|^)#)([^)'"\s]+)""")
_LETTERS = "abcdefghijklmnopqrstuvwxyz"


def svg_file(
    document: Document,
    part: Part,
    region: Rect,
    picture: pyvips.Image,
    *,
    whole: bool = True,
    keep_text: bool = False,
    matte: str = "",
) -> bytes:
    """The file of ``region`` (canvas px) of a part, with the look and size of ``picture``.
    NotDrawable, with the reason, if there cannot be one."""
    size = Size(picture.width, picture.height)
    raw = document.as_svg(part, region, size, whole=whole, keep_text=keep_text, matte=matte)
    # A cleaner that mistakes something is no reason to do without the drawing.
    for data in (cleaned(raw, digits_for(region, size)), raw):
        try:
            drawn = document.render_svg(data, part, region, size.width)
        except SourceError:
            continue
        if looks_the_same(resize(drawn, size), picture):
            return data
    raise NotDrawable("outside its drawing it would look different")


def sent_bytes(data: bytes) -> int:
    """The size of a text file as sent: compressed by gzip as servers usually do."""
    return len(gzip.compress(data, compresslevel=6, mtime=0))


def digits_for(region: Rect, size: Size) -> int:
    """The significant digits that place a point of ``region`` to within FINEST px in a file of
    ``size``."""
    far = max(map(abs, (region.x, region.y, region.x + region.width, region.y + region.height)))
    px = size.width / region.width
    return min(DIGITS[1], max(DIGITS[0], ceil(log10(max(1.0, far * px / FINEST)))))


def cleaned(raw: bytes, digits: int) -> bytes:
    """The same drawing in fewer bytes, with numbers in so many significant digits. Its ids start
    with letters of its own, so that several drawings can share a page."""
    try:
        text = scour.scourString(_with_old_references(raw), _options(digits))
    except Exception:
        # It stumbles over odd numbers in many ways; those may stay as they are.
        text = raw.decode()
    return _with_references(text, raw)


def _options(digits: int) -> Any:
    options = scour.sanitizeOptions()
    options.digits = digits
    options.cdigits = -1
    options.strip_xml_prolog = True
    options.strip_comments = True
    options.remove_descriptive_elements = True
    options.strip_ids = True
    options.group_create = True
    options.newlines = False
    options.indent_type = "none"
    # Files beside ours are none of its business.
    options.embed_rasters = False
    options.quiet = True
    return options


def _with_old_references(data: bytes) -> str:
    """``href`` as in XLink: the cleaner removes elements that are referenced in any other way."""
    root = _parsed(data)
    for element in root.iter():
        if "href" in element.attrib:
            element.set(_XLINK_HREF, element.attrib.pop("href"))
    return ElementTree.tostring(root, "unicode")


def _with_references(text: str, raw: bytes) -> bytes:
    """With ``href``, and with ids of its own."""
    root = _parsed(text.encode())
    ids = [element.attrib["id"] for element in root.iter() if "id" in element.attrib]
    letters = _own_letters(raw)
    own = {id: f"{letters}{number}" for number, id in enumerate(dict.fromkeys(ids))}
    for element in root.iter():
        if _XLINK_HREF in element.attrib:
            element.set("href", element.attrib.pop(_XLINK_HREF))
        for name, value in element.attrib.items():
            if name == "id":
                element.set(name, own[value])
            elif "#" in value:
                element.set(name, _REFERENCE.sub(lambda m: m[1] + own.get(m[2], m[2]), value))
    # A ">" within texts and attributes is written as "&gt;".
    return ElementTree.tostring(root).replace(b" />", b"/>")


def _parsed(data: bytes) -> Element:
    return xml.parse(data, "", "the drawing")


def _own_letters(raw: bytes) -> str:
    number = int.from_bytes(hashlib.sha256(raw).digest()[:6])
    letters = []
    for _ in range(5):
        number, letter = divmod(number, len(_LETTERS))
        letters.append(_LETTERS[letter])
    return "".join(letters)


def looks_the_same(drawn: pyvips.Image, picture: pyvips.Image) -> bool:
    """Whether two pictures of one size differ only by antialiasing."""
    longer = max(picture.width, picture.height)
    ours, theirs = (_premultiplied(image) for image in (drawn, picture))
    off = (ours - theirs).abs().bandmean()
    if longer > _COMPARED:
        off = off.resize(_COMPARED / longer, kernel="linear")
    blocks = off.shrink(min(_BLOCK, off.width), min(_BLOCK, off.height), ceil=True)
    return bool(off.avg() < _MEAN and blocks.max() < _IN_BLOCK)


def _premultiplied(image: pyvips.Image) -> pyvips.Image:
    return with_alpha(image).premultiply().cast("float")
