"""The pictures of the festival's pages that come from its designs: made once, as the website's own
build would, and shown by name."""

from __future__ import annotations

import shutil
from pathlib import Path

from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.deliver.named_pictures import picture_records
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FolderShelf
from gefa.core.make.make_cut import carry_out
from gefa.core.make.own_files import HIDDEN
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.load import parse_plan
from gefa.core.read import read

FOLDER = "festival-img"
"""beside the website's content"""
BASE = "/festival/img/"
PLAN = """\
[recipes.backdrop]
formats = ["webp", "jpeg"]
widths  = [560, 1080]
quality = { webp = 78, jpeg = 80 }

[[pictures]]
name    = "hero"
alt     = "Kites over the long dune"
sizes   = "(max-width: 600px) 100vw, 1000px"
loading = "eager"
use     = [{ cut = "Hero-tall", media = "(max-width: 600px)" }, { cut = "Hero-wide" }]
"""


def make_pictures(design: Path, folder: Path) -> None:
    """Make the hero of the programme's cover in ``folder``, with a manifest."""
    document, shelf = read(design), FolderShelf(folder)
    plan = parse_plan(PLAN, "festival")
    manifest = Manifest(sources=[design.name])
    wanted = {use.cut for picture in plan.pictures for use in picture.use}
    for job in prepare(survey_for(document, plan), plan).jobs:
        if job.cut.name in wanted:
            report = carry_out(job, lambda: document, shelf)
            manifest.cuts.append(report.record)
            manifest.files += report.files
    manifest.pictures, _ = picture_records(manifest, plan.pictures)
    write_whole(folder / MANIFEST, manifest.to_json().encode())
    shutil.rmtree(folder / HIDDEN, ignore_errors=True)
