"""``gefa init``: a plan file that suits what lies in a folder."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path, PurePosixPath

from gefa.core.errors import PlanError
from gefa.core.plan.load import parse_plan
from gefa.folder.site_files import PLAN_FILE, files_below

_DRAWN = frozenset({".svg", ".svgz"})
_DESIGNS = frozenset({".ora"}) | _DRAWN
OUT_NAMES = ("public", "static", "dist")
"""folders that many sites are served from"""
_HEAD = """\
# How this site's designs and images are exported.
#   gefa export            makes it; only what changed is made anew
#   gefa export --dry-run  says what would be made
#   gefa check             says whether it is up to date, for CI
# Full reference: docs/plan-file.md

out = "{out}"
"""
_PHOTOS = """
# Photographs: the formats that suit each, at a look that is hard to tell from the original.
[recipes.photo]
formats = "auto"
widths  = [480, 960, 1440, 1920]
quality = {{ look = 75 }}

[[sources]]
files  = {files}
recipe = "photo"
"""
_DESIGN = """
# Designs: name a layer "Skyline #backdrop" or "Badge #icon" to export it. A design without such
# names exports each of its top layers.
[[sources]]
files = {files}
"""
_RULES = """
# Rules make cuts of parts by their paths, which `gefa parts` lists. The first that matches counts.
# [[rules]]
# sources = "{example}"
# parts   = "Icons/**"
# recipe  = "icon"
"""
_CHECK = """
# What `gefa check` takes for an error beside files that are not up to date.
[check]
errors = ["names no recipe"]
# max_file_bytes = 400000
"""


def write_starter(folder: Path) -> tuple[Path, str]:
    """Write the file; returns its path, and a description of what it covers. PlanError if there is
    one already, or nothing to cover."""
    file = folder / PLAN_FILE
    if file.exists():
        raise PlanError("is there already.", file=str(file), advice="Change that one.")
    if not folder.is_dir():
        raise PlanError("is no folder.", file=str(folder))
    out = _out(folder)
    found = [path.relative_to(folder) for path in files_below(folder, without=[folder / out])]
    if not found:
        raise PlanError(
            "holds no picture and no design.",
            file=str(folder),
            advice="Go to the folder of your site, or name it.",
        )
    designs = [path for path in found if path.suffix.lower() in _DESIGNS]
    pictures = [path for path in found if path.suffix.lower() not in _DESIGNS]
    text = starter(designs, pictures, out)
    try:
        file.write_text(text, "utf-8")
    except OSError as error:
        raise PlanError(f"cannot be written: {error.strerror}.", file=str(file)) from error
    counts = [(len(designs), "design"), (len(pictures), "picture")]
    told = " and ".join(f"{n:,} {word}{'' if n == 1 else 's'}" for n, word in counts if n)
    return file, f"for {told}"


def starter(designs: Sequence[Path], pictures: Sequence[Path], out: str) -> str:
    """The text of a plan for designs and pictures at these paths."""
    text = _HEAD.format(out=out)
    if pictures:
        text += _PHOTOS.format(files=_globs(pictures))
    if designs:
        text += _DESIGN.format(files=_globs(designs))
        text += _RULES.format(example=PurePosixPath(sorted(designs)[0]))
    text += _CHECK
    parse_plan(text, PLAN_FILE)  # what is written can be read
    return text


def _out(folder: Path) -> str:
    served = [name for name in OUT_NAMES if (folder / name).is_dir()]
    return f"{served[0]}/img" if served else "img"


def _globs(paths: Sequence[Path]) -> str:
    """Globs over the existing top folders and endings, as a TOML list."""
    kinds = Counter((path.parts[0] if len(path.parts) > 1 else "", path.suffix) for path in paths)
    globs = [f"{top}/**/*{ending}" if top else f"*{ending}" for top, ending in sorted(kinds)]
    quoted = ", ".join('"' + glob.replace("\\", "\\\\").replace('"', '\\"') + '"' for glob in globs)
    return f"[{quoted}]"
