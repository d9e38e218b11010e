"""Who visits: rows of viewport width, pixel density and share of visits."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable
from functools import cached_property
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
from pydantic import ValidationError

from gefa.core.conditions import ConditionError, Viewport, parse_media, shown_width, valid_entries
from gefa.core.errors import PlanError
from gefa.core.plan.pages import MOST_ROWS, AudienceEntry, AudienceRow
from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import problems_in_words
from gefa.core.treat.formats import FORMATS, Format

MOST_BYTES = 4_000_000
"""of a file with an audience"""
NEUTRAL = "neutral"
_NEUTRAL_ROWS = (
    (360, 2, 6), (360, 3, 14), (390, 3, 20), (412, 2.625, 12), (768, 2, 4), (820, 2, 4),
    (1280, 1, 5), (1366, 1, 8), (1440, 2, 9), (1536, 1.25, 7), (1920, 1, 9), (2560, 1, 2),
)  # fmt: skip
"""px, density, share in %: common screens, about half of them phones; nobody's measurement"""
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
_COLUMNS = ("viewport_width", "device_pixel_ratio", "share", "formats")


def viewport_of(row: AudienceRow) -> Viewport:
    """The viewport with the usual height for its width: phones and tablets upright,
    desktops wide."""
    width = row.viewport_width
    ratio = 2.0 if width < 600 else 4 / 3 if width < 1100 else 5 / 8
    return Viewport(width, round(width * ratio), row.device_pixel_ratio)


class Audience:
    """Groups of visitors as arrays, one value for each row. Shares add up to 1."""

    def __init__(self, name: str, rows: Iterable[AudienceRow]) -> None:
        self.name = name
        self.rows = tuple(rows)
        shares = np.array([row.share for row in self.rows], dtype=np.float64)
        self.shares: Floats = shares / shares.sum()
        self.viewports = tuple(viewport_of(row) for row in self.rows)
        self._needed: dict[str, Floats] = {}
        self._holding: dict[str, Bools] = {}
        self._showing: dict[Format, Bools] = {}

    @cached_property
    def densities(self) -> Floats:
        return np.array([row.device_pixel_ratio for row in self.rows], dtype=np.float64)

    def needed(self, sizes: str) -> Floats:
        """Device px that a picture with these ``sizes`` needs, for each row. Invalid entries are
        ignored, as in browsers."""
        if sizes not in self._needed:
            entries = valid_entries(sizes)
            widths = [max(0.0, shown_width(entries, viewport)) for viewport in self.viewports]
            self._needed[sizes] = np.array(widths) * self.densities
        return self._needed[sizes]

    def holds(self, media: str) -> Bools:
        """Whether a media condition matches, for each row; an invalid one never does."""
        if media not in self._holding:
            try:
                condition = parse_media(media)
                found = [condition(viewport) for viewport in self.viewports]
            except ConditionError:
                found = [False] * len(self.rows)
            self._holding[media] = np.array(found, dtype=np.bool_)
        return self._holding[media]

    def shows(self, format: Format) -> Bools:
        """Whether browsers show a format, for each row."""
        if format not in self._showing:
            everywhere = not FORMATS[format].modern or FORMATS[format].drawn
            found = [everywhere or format in row.formats for row in self.rows]
            self._showing[format] = np.array(found, dtype=np.bool_)
        return self._showing[format]


def neutral() -> Audience:
    """A plain audience for sites without measurements."""
    rows = [
        AudienceRow(viewport_width=width, device_pixel_ratio=density, share=share)
        for width, density, share in _NEUTRAL_ROWS
    ]
    return Audience(NEUTRAL, rows)


def audience_of(entry: AudienceEntry, folder: Path | None) -> Audience:
    """The audience of a plan's entry; its file lies in ``folder``. PlanError if it cannot be
    read."""
    if entry.file is None:
        return Audience(entry.name, entry.rows)
    if folder is None:
        raise PlanError(
            f"the audience {entry.name!r} is in the file {entry.file}, which is missing.",
            advice="Upload the file on Weight.",
        )
    return read_audience(folder / entry.file, entry.name)


def with_rows(plan: Plan, folder: Path) -> Plan:
    """The plan with its audiences' rows inside, instead of names of files in ``folder``. PlanError
    if one cannot be read."""
    entries = [
        AudienceEntry(name=entry.name, rows=audience_of(entry, folder).rows)
        for entry in plan.audiences
    ]
    return plan.model_copy(update={"audiences": tuple(entries)})


def read_audience(file: Path, name: str) -> Audience:
    """The audience in a CSV or JSON file. PlanError names the file and the line."""
    try:
        with file.open("rb") as opened:
            data = opened.read(MOST_BYTES + 1)
    except OSError as error:
        raise PlanError(f"cannot be read: {error.strerror}.", file=str(file)) from error
    return Audience(name, audience_rows(data, str(file)))


def audience_rows(data: bytes, file: str) -> list[AudienceRow]:
    """The rows of a table as CSV, with a line of headings, or of a JSON list of objects. PlanError
    names the ``file`` and the line, or the number of the row."""
    if len(data) > MOST_BYTES:
        raise PlanError(f"has more than {MOST_BYTES // 1_000_000} MB.", file=file)
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise PlanError("is not a text in UTF-8.", file=file) from error
    told = _of_json(text, file) if text.lstrip().startswith(("[", "{")) else _of_csv(text, file)
    rows: list[AudienceRow] = []
    for place, fields in told:
        if len(rows) >= MOST_ROWS:
            raise PlanError(f"has more than {MOST_ROWS:,} rows.", file=file)
        try:
            rows.append(AudienceRow.model_validate(fields))
        except ValidationError as error:
            raise PlanError(f"{place}: {'; '.join(problems_in_words(error))}.", file=file) from None
    if not rows:
        raise PlanError("has no rows.", file=file, advice=_ADVICE)
    return rows


_ADVICE = "Give a line of headings: viewport_width,device_pixel_ratio,share."


def _of_csv(text: str, file: str) -> Iterable[tuple[str, dict[str, Any]]]:
    reader = csv.reader(io.StringIO(text), strict=True)
    try:
        headings = [cell.strip().lower() for cell in next(reader, [])]
        missing = [name for name in _COLUMNS[:3] if name not in headings]
        if missing:
            raise PlanError(f"line 1: there is no {missing[0]}.", file=file, advice=_ADVICE)
        for cells in reader:
            if not any(cell.strip() for cell in cells):
                continue
            if len(cells) > len(headings):
                raise PlanError(f"line {reader.line_num}: it has one cell too many.", file=file)
            told = {name: cell.strip() for name, cell in zip(headings, cells, strict=False)}
            known = {name: value for name, value in told.items() if name in _COLUMNS}
            yield f"line {reader.line_num}", known
    except csv.Error as error:
        raise PlanError(
            f"line {reader.line_num}: is not valid CSV.",
            file=file,
            advice="Look for a quote that is never closed.",
        ) from error


def _of_json(text: str, file: str) -> Iterable[tuple[str, dict[str, Any]]]:
    try:
        rows = json.loads(text)
    except json.JSONDecodeError as error:
        place = f"line {error.lineno}, column {error.colno}"
        raise PlanError(f"is not JSON: {place}.", file=file) from error
    except (ValueError, RecursionError) as error:
        raise PlanError(
            "is nested too deeply, or has a number that is too long.", file=file
        ) from error
    rows = rows.get("rows") if isinstance(rows, dict) else rows
    if not isinstance(rows, list):
        raise PlanError("has no list of rows.", file=file)
    for number, row in enumerate(rows, 1):
        if not isinstance(row, dict):
            raise PlanError(f"row {number}: it is not an object.", file=file)
        yield f"row {number}", row
