"""The settings of a slot: what it accepts, and which files it makes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from enum import StrEnum
from ipaddress import ip_address
from typing import Annotated, Any
from urllib.parse import urlsplit

import idna
from pydantic import (
    BaseModel,
    ConfigDict,
    Field,
    ValidationError,
    field_validator,
    model_validator,
)

from gefa.core.conditions import parse_sizes
from gefa.core.errors import PlanError, SourceError
from gefa.core.geometry import Size
from gefa.core.plan.problems import problems_in_words
from gefa.core.read.sniff import FLAT_KINDS, LABELS, FileKind
from gefa.core.treat.recipe import (
    MAX_WIDTHS,
    RECIPE_NAME,
    Fit,
    Ratio,
    Width,
    fields_of,
    ratio_from_words,
)
from gefa.core.units import listed, weight

SLOT_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")
SLOT_FILE_NAME = "{source}-{cut}-{width}.{ext}"
_PLAIN_HOST = re.compile(r"(?!.*--)[a-z0-9_-]{1,63}(?:\.[a-z0-9_-]{1,63}){0,9}", re.I)
WHOLE = "whole"
"""the crop of a slot without named crops"""
MAX_CROPS = 24
"""of a slot: every upload is made in all of them"""

Side = Annotated[int, Field(ge=1, le=100_000)]
Megapixels = Annotated[float, Field(gt=0, le=500)]


def is_web_address(url: str) -> bool:
    """Whether an http or https address has a valid host (RFC 3986, RFC 5891)."""
    try:
        parts = urlsplit(url)
        host, _ = parts.hostname or "", parts.port
    except ValueError:
        return False
    if parts.scheme not in ("http", "https") or not host or not url.isprintable() or " " in url:
        return False
    try:
        ip_address(host)
    except ValueError:
        try:
            idna.encode(host, uts46=True)
        except idna.IDNAError:
            # Names with underscores are none of IDNA, but within a network there are some.
            return _PLAIN_HOST.fullmatch(host) is not None
    return True


class KeepOriginal(StrEnum):
    """What happens to the original once its variants are live."""

    ALWAYS = "always"
    UP_TO = "up to"
    NEVER = "never"


class Folders(StrEnum):
    """The folders of the variants."""

    MONTH = "month"
    FLAT = "flat"


class Mask(StrEnum):
    """The shape a picture is shown in; CSS makes it, the files stay rectangles."""

    NONE = "none"
    ROUNDED = "rounded"
    CIRCLE = "circle"


class NamedCrop(BaseModel):
    """A crop of every upload: to ``ratio`` (width ÷ height, None for the picture's own) by ``fit``,
    in ``widths`` px, or the recipe's."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: str
    ratio: Ratio | None = None
    fit: Fit = Fit.COVER
    widths: tuple[Width, ...] = Field(default=(), max_length=MAX_WIDTHS)

    @field_validator("name")
    @classmethod
    def _plain(cls, name: str) -> str:
        if not RECIPE_NAME.fullmatch(name):
            raise ValueError(f"{name!r} is not a name for a crop: use letters, digits, - and _")
        return name

    @field_validator("ratio", mode="before")
    @classmethod
    def _in_words(cls, ratio: object) -> object:
        return ratio_from_words(ratio)

    @field_validator("widths")
    @classmethod
    def _ascending(cls, widths: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(sorted(set(widths)))

    @property
    def follows_focal(self) -> bool:
        """Whether the crop depends on the focal point."""
        return self.fit is Fit.COVER and self.ratio is not None


class SlotSettings(BaseModel):
    """All settings of a slot. Sizes in px, weights in bytes, ratios width ÷ height.

    A picture above the largest size is reduced to it; one below the smallest, or outside the range
    of ratios, is refused. ``max_uploads`` and ``max_total_bytes`` limit the number of uploads and
    the weight of their originals together. ``sizes`` is that attribute of the markup. ``notify`` is
    the webhook for uploads that go live.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    accepts: tuple[FileKind, ...] = Field(default=tuple(sorted(FLAT_KINDS)), min_length=1)
    max_bytes: int = Field(default=40_000_000, ge=1_000, le=4_000_000_000)
    max_uploads: int | None = Field(default=None, ge=1, le=10_000_000)
    max_total_bytes: int | None = Field(default=None, ge=1_000)
    min_width: Side | None = None
    min_height: Side | None = None
    min_megapixels: Megapixels | None = None
    max_width: Side | None = None
    max_height: Side | None = None
    max_megapixels: Megapixels | None = None
    min_ratio: Ratio | None = None
    max_ratio: Ratio | None = None
    recipe: str = Field(default="backdrop", pattern=RECIPE_NAME.pattern)
    crops: tuple[NamedCrop, ...] = Field(
        default=(NamedCrop(name=WHOLE),), min_length=1, max_length=MAX_CROPS
    )
    original: KeepOriginal = KeepOriginal.ALWAYS
    original_bytes: int = Field(default=10_000_000, ge=1)
    folders: Folders = Folders.MONTH
    name: str = Field(default=SLOT_FILE_NAME, max_length=200)
    review: bool = False
    mask: Mask = Mask.NONE
    sizes: str = Field(default="", max_length=400)
    notify: str = Field(default="", max_length=500)

    @field_validator("accepts")
    @classmethod
    def _flat(cls, kinds: tuple[FileKind, ...]) -> tuple[FileKind, ...]:
        if not FLAT_KINDS.issuperset(kinds):
            raise ValueError("a slot takes flat pictures only")
        return tuple(sorted(set(kinds)))

    @field_validator("min_ratio", "max_ratio", mode="before")
    @classmethod
    def _in_words(cls, ratio: object) -> object:
        return ratio_from_words(ratio)

    @field_validator("sizes")
    @classmethod
    def _readable(cls, sizes: str) -> str:
        if sizes:
            parse_sizes(sizes)
        return sizes

    @field_validator("notify")
    @classmethod
    def _http(cls, url: str) -> str:
        if url and not is_web_address(url):
            raise ValueError(
                f"{url!r} is not an address for a webhook: start it with http:// or https://"
            )
        return url

    @field_validator("name")
    @classmethod
    def _tells_files_apart(cls, name: str) -> str:
        fields = fields_of(name)
        if not fields & {"width", "hash"}:
            raise ValueError("the name template needs {width}, since there are several widths")
        if not fields & {"ext", "format"}:
            raise ValueError("the name template needs {ext}")
        return name

    @model_validator(mode="after")
    def _possible(self) -> SlotSettings:
        for what, least, most in (
            ("width", self.min_width, self.max_width),
            ("height", self.min_height, self.max_height),
            ("number of megapixels", self.min_megapixels, self.max_megapixels),
            ("ratio", self.min_ratio, self.max_ratio),
        ):
            if least is not None and most is not None and least > most:
                raise ValueError(f"the smallest {what} is larger than the largest")
        names = [crop.name.casefold() for crop in self.crops]
        if len(set(names)) < len(names):
            raise ValueError("two crops have the same name")
        if len(names) > 1 and "{cut}" not in self.name and "{hash}" not in self.name:
            raise ValueError("the name template needs {cut}, since there are several crops")
        return self

    @property
    def labels(self) -> str:
        """Names of the formats it accepts."""
        return listed([LABELS[kind] for kind in self.accepts])

    def crop(self, name: str) -> NamedCrop | None:
        return next((crop for crop in self.crops if crop.name == name), None)

    def refusal(self, size: Size) -> str:
        """Why a picture of ``size`` px is refused; empty if it is accepted. A picture that can be
        reduced is accepted."""
        least = [
            f"{value:g} {what}"
            for value, have, what in (
                (self.min_width, size.width, "px wide"),
                (self.min_height, size.height, "px high"),
                (self.min_megapixels, size.megapixels, "megapixels"),
            )
            if value is not None and have < value
        ]
        if least:
            return (
                f"it is {size.width:,} × {size.height:,} px, and must be at least"
                f" {listed(least)}. Gefa enlarges nothing: upload a larger one"
            )
        ratio = size.width / size.height
        if self.min_ratio is not None and ratio < self.min_ratio * (1 - _ROUNDED):
            return f"its ratio is {ratio:.2f} : 1, and must be at least {self.min_ratio:.2f} : 1"
        if self.max_ratio is not None and ratio > self.max_ratio * (1 + _ROUNDED):
            return f"its ratio is {ratio:.2f} : 1, and must be at most {self.max_ratio:.2f} : 1"
        return ""

    def largest(self, size: Size) -> float:
        """The share (0..1) to which a picture of ``size`` px is reduced."""
        shares = [1.0]
        if self.max_width is not None:
            shares.append(self.max_width / size.width)
        if self.max_height is not None:
            shares.append(self.max_height / size.height)
        if self.max_megapixels is not None:
            shares.append((self.max_megapixels / size.megapixels) ** 0.5)
        return min(shares)

    def keeps_original(self, weight: int) -> bool:
        """Whether the original, of ``weight`` bytes, is kept."""
        if self.original is KeepOriginal.UP_TO:
            return weight <= self.original_bytes
        return self.original is KeepOriginal.ALWAYS


_ROUNDED = 0.005
"""share by which a ratio may exceed its limit, since pictures have whole pixels"""


def settings_from(*layers: Mapping[str, Any]) -> SlotSettings:
    """The settings of ``layers``, later ones over earlier ones; PlanError with what is wrong."""
    merged: dict[str, Any] = {}
    for layer in layers:
        merged |= layer
    try:
        return SlotSettings.model_validate(merged)
    except ValidationError as error:
        raise PlanError("; ".join(problems_in_words(error)) + ".") from error


def check_upload(settings: SlotSettings, size: Size, file: str, profile_trouble: str = "") -> None:
    """SourceError if the slot refuses a picture of ``size`` px, or a broken colour profile: nobody
    would notice wrong colours before the visitors do."""
    reason = settings.refusal(size)
    if reason:
        raise SourceError(f"is not accepted: {reason}.", file=file)
    if profile_trouble:
        raise SourceError(
            f"is not accepted: its colour profile cannot be used, {profile_trouble}.",
            file=file,
            advice="Save it again as sRGB, or without a profile.",
        )


def bytes_refusal(settings: SlotSettings, name: str, kind: FileKind | None) -> str:
    """Why a file of that kind is refused; empty if it is accepted."""
    if kind in settings.accepts:
        return ""
    found = f"it is {LABELS[kind]}" if kind else "Gefa cannot read it as a picture"
    return f"{name} is not accepted: {found}. This slot accepts {settings.labels}."


def limits_in_words(settings: SlotSettings) -> str:
    """The slot's limits as a sentence."""
    words = [f"{settings.labels} up to {weight(settings.max_bytes)}"]
    least = _size_in_words(settings.min_width, settings.min_height, settings.min_megapixels)
    most = _size_in_words(settings.max_width, settings.max_height, settings.max_megapixels)
    if least:
        words.append(f"at least {least}")
    if most:
        words.append(f"brought down to {most}")
    if settings.min_ratio or settings.max_ratio:
        low, high = settings.min_ratio, settings.max_ratio
        if low and high:
            words.append(f"from {low:.3g} : 1 to {high:.3g} : 1")
        else:
            words.append(f"at least {low:.3g} : 1" if low else f"at most {high:.3g} : 1")
    return ", ".join(words)


def _size_in_words(width: int | None, height: int | None, megapixels: float | None) -> str:
    words = []
    if width and height:
        words.append(f"{width:,} × {height:,} px")
    elif width or height:
        words.append(f"{width:,} px wide" if width else f"{height:,} px high")
    if megapixels:
        words.append(f"{megapixels:g} megapixels")
    return " and ".join(words)
