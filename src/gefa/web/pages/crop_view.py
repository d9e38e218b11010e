"""What a page shows of a crop: the rectangle it keeps, and its files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.geometry import Rect
from gefa.core.slots.settings import NamedCrop
from gefa.core.treat.formats import Format


class _WeighedFile(Protocol):
    """A made file: width in px."""

    @property
    def cut(self) -> str: ...
    @property
    def width(self) -> int: ...
    @property
    def bytes(self) -> int: ...
    @property
    def format(self) -> str: ...


@dataclass(frozen=True)
class CropView:
    """``rect`` is in px of the picture."""

    crop: NamedCrop
    rect: Rect
    files: list[_WeighedFile]

    @property
    def name(self) -> str:
        return self.crop.name

    @property
    def follows(self) -> bool:
        """Whether it keeps only a part, chosen by the focal point."""
        return self.crop.follows_focal

    @property
    def widths(self) -> list[int]:
        return sorted({file.width for file in self.files})

    def at(self, width: int, format: Format) -> _WeighedFile | None:
        return next((f for f in self.files if f.width == width and f.format == format), None)

    @property
    def shown(self) -> _WeighedFile | None:
        """The file to show."""
        return sent_to_large_screens(self.files)


class Crops(list[CropView]):
    """All crops of a picture, in the slot's order."""

    @classmethod
    def of(cls, places: Sequence[tuple[NamedCrop, Rect]], files: Sequence[_WeighedFile]) -> Crops:
        return cls(
            CropView(crop, rect, [file for file in files if file.cut == crop.name])
            for crop, rect in places
        )

    @property
    def files(self) -> list[_WeighedFile]:
        return [file for crop in self for file in crop.files]

    @property
    def formats(self) -> list[Format]:
        made = {file.format for file in self.files}
        return [format for format in Format if format in made]

    @property
    def heaviest(self) -> int:
        """Bytes, the scale of the bars."""
        return max((file.bytes for file in self.files), default=1)

    @property
    def sent(self) -> int | None:
        """Bytes of the lightest file at the largest width, which large screens load."""
        sent = sent_to_large_screens(self.files)
        return sent.bytes if sent else None
