"""What a run made, as a file that other programs can read."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict

from gefa.core.cut.cut import Origin, Remark
from gefa.core.pixels import AlphaKind
from gefa.core.treat.formats import Format

MANIFEST = "manifest.json"


class File(BaseModel):
    """One variant made: cut × width × format. Sizes in px, ``score`` null until measured."""

    model_config = ConfigDict(frozen=True)

    cut: str
    path: str
    format: Format
    width: int
    height: int
    bytes: int
    sha256: str
    quality: int | None
    score: float | None = None
    reused: bool


class CutRecord(BaseModel):
    """One cut: where it lies on the canvas (px), and the markup to show it."""

    model_config = ConfigDict(frozen=True)

    name: str
    source: str
    part: str
    recipe: str
    origin: Origin
    x: int
    y: int
    width: int
    height: int
    alpha: AlphaKind | None
    baseline_bytes: int | None
    css: str | None = None
    markup: str


class Manifest(BaseModel):
    """``source`` is one name, or a list where several sources share the folder."""

    gefa_manifest: int = 1
    source: str | list[str]
    files: list[File] = []
    cuts: list[CutRecord] = []
    left_out: list[Remark] = []
    dropped: list[Remark] = []
    failed: list[Remark] = []
    warnings: list[Remark] = []

    @property
    def sources(self) -> list[str]:
        return [self.source] if isinstance(self.source, str) else self.source

    def to_json(self) -> str:
        return self.model_dump_json(indent=2) + "\n"
