"""A picture as a page shows it: its sources in order, each with its files."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from gefa.core.treat.formats import FORMATS, Format


@dataclass(frozen=True, slots=True)
class ShownFile:
    """A file for browsers to choose: its px as ``offered`` by the markup, its own ``width`` in px,
    and the ``bytes`` sent. ``cut`` is its cut, if known."""

    path: str
    format: Format | None
    offered: float
    width: int
    height: int
    bytes: int
    cut: str = ""

    @property
    def drawn(self) -> bool:
        """Sharp at any width."""
        return self.format is not None and FORMATS[self.format].drawn


@dataclass(frozen=True, slots=True)
class ShownSource:
    """A ``<source>``, or the ``<img>`` as the last one: used where ``media`` matches and the
    ``type`` is supported (None is by every browser)."""

    files: tuple[ShownFile, ...]
    sizes: str
    media: str = ""
    type: Format | None = None


@dataclass(frozen=True)
class ShownPicture:
    """One picture of a page. ``seen`` is the share of visits (0..1) that load it; it stands for
    ``times`` similar ones."""

    name: str
    sources: tuple[ShownSource, ...]
    eager: bool = True
    seen: float = 1.0
    times: int = 1
    alt: str = ""
    line: int = 0

    @cached_property
    def files(self) -> tuple[ShownFile, ...]:
        """The files of all sources, in order."""
        return tuple(file for source in self.sources for file in source.files)

    @property
    def reached(self) -> float:
        """The share of visits that load it; 1 unless it is lazy."""
        return 1.0 if self.eager else self.seen

    @property
    def cuts(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(file.cut for file in self.files if file.cut))


@dataclass(frozen=True, slots=True)
class ShownPage:
    """A page with its pictures from the top down, and with warnings."""

    name: str
    pictures: tuple[ShownPicture, ...]
    problems: tuple[str, ...] = ()
