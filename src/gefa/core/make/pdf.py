"""A PDF with a page for each cut."""

from __future__ import annotations

from collections.abc import Iterable
from io import BytesIO

import pyvips

from gefa.core.geometry import MM_PER_INCH
from gefa.core.make.job import CutJob
from gefa.core.pixels import drop_opaque_alpha
from gefa.core.read.document import Document
from gefa.core.read.svg.drawing import DPI

JPEG_QUALITY = 92
"""of pictures in a PDF, which people print and zoom into"""
MAX_SIDE = 6_000
"""px of the longer side of a page's picture"""
MAX_PAGE_MM = 5_000.0
"""PDF viewers stop at 200 inches"""


def pdf_of(title: str, pages: Iterable[tuple[Document, CutJob]]) -> bytes:
    """A PDF with each job's cut on its own page, at the size it is shown: px at 96 to the inch, or
    the resolution of its own size. ``pages`` are drawn one by one, so no two documents are open at
    once."""
    from fpdf import FPDF  # here: it takes as long to load as everything else together

    pdf = FPDF(unit="mm")
    pdf.set_auto_page_break(False)
    pdf.set_title(title)
    pdf.set_creator("Gefa")
    for document, job in pages:
        image = _picture(document, job)
        dpi = job.cut.size.resolution if job.cut.size else None
        natural = job.cut.size.pixels(job.extent.size) if job.cut.size else job.extent.size
        width = min(MAX_PAGE_MM, natural.width / (dpi or DPI) * MM_PER_INCH)
        height = min(MAX_PAGE_MM, natural.height / (dpi or DPI) * MM_PER_INCH)
        pdf.add_page(format=(width, height))
        pdf.image(BytesIO(_encoded(image)), 0, 0, width, height, alt_text=job.cut.name)
    return bytes(pdf.output())


def _picture(document: Document, job: CutJob) -> pyvips.Image:
    part = document.part(job.cut.part)
    longer = max(job.extent.width, job.extent.height)
    width = max(1, round(job.extent.width * min(1.0, MAX_SIDE / longer)))
    image = document.render(part, job.extent, width, whole=job.cut.strays)
    if image.width > 2 * width:
        image = image.resize(width / image.width)
    return drop_opaque_alpha(image)


def _encoded(image: pyvips.Image) -> bytes:
    if image.hasalpha():
        return bytes(image.pngsave_buffer(compression=6, keep="none"))
    return bytes(image.jpegsave_buffer(Q=JPEG_QUALITY, keep="none"))
