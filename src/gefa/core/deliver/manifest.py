"""What a run made, as a file that other programs can read."""

from __future__ import annotations

from datetime import date
from typing import Any

from pydantic import (
    BaseModel,
    ConfigDict,
    SerializerFunctionWrapHandler,
    model_serializer,
    model_validator,
)

from gefa.core.cut.cut import Origin, Remark
from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.geometry import Size
from gefa.core.pixels import AlphaKind
from gefa.core.plan.pages import PictureEntry
from gefa.core.treat.formats import Format
from gefa.core.treat.made import CutFacts, MadeVariant

MANIFEST = "manifest.json"


class File(BaseModel):
    """One variant made: cut × width × format. Sizes in px, ``score`` (SSIMULACRA2) null
    until measured; ``limit`` names what kept its encoder from the look that was asked for;
    ``short`` tells that the look was not reached, ``budget`` is the bytes that it may weigh.
    ``untouched`` tells that it is the picture's own file, without its metadata; ``gzip`` is what a
    server sends of a text file, in bytes, 0 of all that is sent as it is. ``key`` names what the
    bytes depend on."""

    model_config = ConfigDict(frozen=True)

    cut: str
    source: str = ""
    path: str
    format: Format
    width: int
    height: int
    bytes: int
    sha256: str
    quality: int | None
    score: float | None = None
    reused: bool
    moves: bool = False
    limit: str = ""
    budget: int | None = None
    untouched: bool = False
    gzip: int = 0
    short: bool = False
    key: str = ""

    @property
    def sent(self) -> int:
        """Bytes that a visitor loads."""
        return self.gzip or self.bytes

    def as_made(self) -> MadeVariant:
        """What the file tells of its variant."""
        return MadeVariant.model_validate(self, from_attributes=True)


class CutMemory(BaseModel):
    """What was measured of a cut's pixels, and by key the variants that were made and left out:
    with both, the next export decides as this one did, and makes nothing again."""

    model_config = ConfigDict(frozen=True)

    source: str
    cut: str
    facts_key: str = ""
    facts: CutFacts | None = None
    tried: dict[str, MadeVariant] = {}

    @model_serializer(mode="wrap")
    def _without_defaults(self, write: SerializerFunctionWrapHandler) -> dict[str, Any]:
        told: dict[str, Any] = write(self)
        tried = {k: made.model_dump(exclude_defaults=True) for k, made in self.tried.items()}
        facts = self.facts.model_dump(mode="json", exclude_defaults=True) if self.facts else None
        return {**told, "facts": facts, "tried": tried}


class CutRecord(BaseModel):
    """One cut: where it lies on the canvas (px), the markup to show it, and why it has the formats
    that it has, if they were chosen for it. ``sprite`` says that it goes into its recipe's;
    ``shown`` is the size in the markup (CSS px), ``by_density`` that it is always that. The
    ``picture`` of that name shows it where ``media`` holds."""

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
    why: str = ""
    sprite: bool = False
    shown: Size | None = None
    by_density: bool = False
    picture: str = ""
    media: str = ""

    @property
    def shown_size(self) -> Size:
        """The size in the markup, px."""
        return self.shown or Size(self.width, self.height)


class OriginalFile(BaseModel):
    """A bitmap of the design, byte for byte as stored. Sizes in px; ``shown`` is its size on the
    canvas."""

    model_config = ConfigDict(frozen=True)

    source: str
    part: str
    name: str
    path: str
    media_type: str
    width: int
    height: int
    shown_width: int
    shown_height: int
    bytes: int
    sha256: str


class Sprite(BaseModel):
    """A file with a ``<symbol>`` for each drawing of a recipe; ``ids`` by the names of cuts."""

    model_config = ConfigDict(frozen=True)

    recipe: str
    path: str
    symbols: dict[str, str]


class PictureRecord(BaseModel):
    """A picture of the plan with its markup: one cut, or several for media conditions."""

    model_config = ConfigDict(frozen=True)

    name: str
    entry: PictureEntry
    markup: str


class Totals(BaseModel):
    """Sums over a run; weights in bytes. ``served`` is the lightest file at the largest width of
    each cut that has a baseline: what a visitor with a large screen is sent."""

    model_config = ConfigDict(frozen=True)

    cuts: int = 0
    made: int = 0
    reused: int = 0
    failed: int = 0
    bytes: int = 0
    baseline: int = 0
    served: int = 0

    @property
    def saved(self) -> float | None:
        """The share of the baseline that was saved, 0..1."""
        return max(0.0, 1 - self.served / self.baseline) if self.baseline else None


class Manifest(BaseModel):
    """Everything that was made of ``sources``. Since version 2 each cut and file names its source,
    since version 3 files have their keys, and ``memory`` is what the next export needs so as to
    make nothing again. ``extras`` are the paths of layouts and PDFs; ``days`` tells when sources
    were first exported whose files have the year or month in their names."""

    gefa_manifest: int = 3
    sources: list[str]
    files: list[File] = []
    cuts: list[CutRecord] = []
    originals: list[OriginalFile] = []
    sprites: list[Sprite] = []
    pictures: list[PictureRecord] = []
    extras: list[str] = []
    days: dict[str, date] = {}
    memory: list[CutMemory] = []
    left_out: list[Remark] = []
    dropped: list[Remark] = []
    failed: list[Remark] = []
    warnings: list[Remark] = []

    @model_validator(mode="before")
    @classmethod
    def _of_version_1(cls, told: Any) -> Any:
        """In version 1, ``source`` was one name or a list, and files named only their cuts."""
        if not isinstance(told, dict) or "source" not in told:
            return told
        source = told["source"]
        of_cut = {cut.get("name"): cut.get("source", "") for cut in told.get("cuts", [])}
        files = [{"source": of_cut.get(f.get("cut"), ""), **f} for f in told.get("files", [])]
        rest = {key: value for key, value in told.items() if key != "source"}
        sources = [source] if isinstance(source, str) else source
        return {**rest, "gefa_manifest": 3, "sources": sources, "files": files}

    @property
    def paths(self) -> frozenset[str]:
        """Paths of all files in the folder, its own among them."""
        paths = {MANIFEST, *self.extras, *(file.path for file in self.files)}
        paths |= {file.path for file in self.originals}
        return frozenset(paths | {sprite.path for sprite in self.sprites})

    def files_by_cut(self) -> dict[str, list[File]]:
        grouped: dict[str, list[File]] = {}
        for file in self.files:
            grouped.setdefault(file.cut, []).append(file)
        return grouped

    def totals(self) -> Totals:
        grouped = self.files_by_cut()
        reused = sum(file.reused for file in self.files)
        based = [cut for cut in self.cuts if cut.baseline_bytes]
        return Totals(
            cuts=len(self.cuts),
            made=len(self.files) - reused,
            reused=reused,
            failed=len(self.failed),
            bytes=sum(file.bytes for file in self.files),
            baseline=sum(cut.baseline_bytes or 0 for cut in based),
            served=sum(
                sent.sent
                for cut in based
                if (sent := sent_to_large_screens(grouped.get(cut.name, [])))
            ),
        )

    def to_json(self) -> str:
        return self.model_dump_json(indent=2) + "\n"
