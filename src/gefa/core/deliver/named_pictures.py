"""The pictures of a site by name, with their markup: those of the plan, and one for each cut."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from difflib import get_close_matches
from enum import StrEnum

from gefa.core.conditions import ConditionError, parse_sizes
from gefa.core.deliver.manifest import CutRecord, Manifest, PictureRecord
from gefa.core.deliver.markup import (
    ImgBehaviour,
    MediaCase,
    Offer,
    as_data,
    default_sizes,
    directed,
    image_set,
    jinja_macro,
    plain_box,
    preload,
)
from gefa.core.errors import PlanError
from gefa.core.plan.pages import Loading, PictureEntry, PictureUse
from gefa.core.units import listed


class MarkupForm(StrEnum):
    """Forms of a picture's markup besides HTML."""

    JINJA = "jinja"
    PRELOAD = "preload"
    CSS = "css"
    JSON = "json"


class NamedPictures:
    """The pictures of a manifest, by name. ``entries`` are the pictures of the plan; the manifest's
    own are added. ``base`` is put before each file's path."""

    def __init__(
        self, manifest: Manifest, entries: Iterable[PictureEntry] = (), base: str = ""
    ) -> None:
        self._cuts = {cut.name: cut for cut in manifest.cuts}
        self._offers: dict[str, list[Offer]] = {}
        for file in manifest.files:
            offer = Offer(base + file.path, file.format, file.width, file.height, file.moves)
            self._offers.setdefault(file.cut, []).append(offer)
        told = of_cuts(manifest.cuts) | {one.name: one.entry for one in manifest.pictures}
        self._entries: Mapping[str, PictureEntry] = told | {one.name: one for one in entries}

    def names(self) -> list[str]:
        """Names of pictures, then of cuts without a picture of that name."""
        return list(dict.fromkeys([*self._entries, *self._cuts]))

    def entry(self, name: str) -> PictureEntry:
        """The picture of that name; a cut counts as a picture. PlanError, with the closest name, if
        there is none."""
        if name in self._entries:
            return self._entries[name]
        return PictureEntry(name=self.cut(name, "picture").name, use=(_whole(name),))

    def cut(self, name: str, what: str = "cut") -> CutRecord:
        """The cut of that name. PlanError, with the closest name, if there is none."""
        if name in self._cuts:
            return self._cuts[name]
        known = self._cuts if what == "cut" else self.names()
        close = get_close_matches(name, known, n=1, cutoff=0.4)
        raise PlanError(
            f"there is no {what} {name!r}.", advice=f"The closest is {close[0]!r}." if close else ""
        )

    def markup(
        self,
        name: str,
        *,
        alt: str | None = None,
        sizes: str = "",
        loading: str = "",
        css_class: str = "",
    ) -> str:
        """The ``<picture>`` of that name; arguments override the plan. PlanError if the picture or
        one of its cuts is missing, or has no file, or if ``sizes`` cannot be read."""
        entry = self.entry(name)
        told = entry.alt if alt is None else alt
        only = self.cut(entry.use[0].cut) if len(entry.use) == 1 else None
        if only is not None and only.css:
            return plain_box(only.css, only.shown_size)
        if loading and loading not in tuple(Loading):
            raise PlanError(f"loading cannot be {loading!r}.", advice="Use lazy or eager.")
        lazy = Loading(loading or entry.loading) is Loading.LAZY
        behaviour = ImgBehaviour(lazy=lazy, css_class=css_class)
        densities = self.by_density(entry, sizes)
        return directed(self.cases(entry, sizes), told, behaviour, densities=densities)

    def form(self, name: str, form: MarkupForm, *, sizes: str = "", width: int = 640) -> str:
        """The picture as a Jinja macro, as ``<link>`` elements that preload it, as the CSS of a
        background ``width`` CSS px wide, or as data. PlanError as for ``markup``."""
        entry = self.entry(name)
        cases = self.cases(entry, sizes)
        behaviour = ImgBehaviour(lazy=entry.loading is Loading.LAZY)
        if form is MarkupForm.JINJA:
            called = re.sub(r"\W+", "_", name).strip("_") or "picture"
            return jinja_macro(called, cases, entry.alt, behaviour)
        if form is MarkupForm.PRELOAD:
            return preload(cases)
        if form is MarkupForm.CSS:
            return image_set(cases[-1].offers, width)
        return json.dumps(as_data(cases, entry.alt, behaviour), indent=2)

    def by_density(self, entry: PictureEntry, sizes: str = "") -> bool:
        """Whether the picture always has the size of its one cut."""
        told = sizes or entry.sizes
        return len(entry.use) == 1 and not told and self.cut(entry.use[0].cut).by_density

    def cases(self, entry: PictureEntry, sizes: str = "") -> Sequence[MediaCase]:
        """The cases of a picture, one for each media condition. PlanError as for ``markup``."""
        _check_sizes(sizes)
        found = []
        for use in entry.use:
            cut = self.cut(use.cut)
            offers = self._offers.get(use.cut, [])
            if not offers:
                reason = "CSS draws it" if cut.css else "it has no files"
                raise PlanError(f"the picture {entry.name!r} cannot show {use.cut!r}: {reason}.")
            told = sizes or entry.sizes or default_sizes(cut.shown_size)
            found.append(MediaCase(offers, cut.shown_size, told, use.media))
        return found


def _check_sizes(sizes: str) -> None:
    try:
        if sizes:
            parse_sizes(sizes)
    except ConditionError as error:
        raise PlanError(f"sizes = {sizes!r} is not valid: {error}") from error


def of_cuts(cuts: Iterable[CutRecord]) -> dict[str, PictureEntry]:
    """The pictures that cuts name: uses with a media condition first, the one without last."""
    grouped: dict[str, list[CutRecord]] = {}
    for cut in cuts:
        if cut.picture:
            grouped.setdefault(cut.picture, []).append(cut)
    found = {}
    for name, own in grouped.items():
        *directed_ones, last = sorted(own, key=lambda cut: not cut.media)
        uses = [PictureUse(cut=cut.name, media=cut.media) for cut in directed_ones if cut.media]
        found[name] = PictureEntry(name=name, use=(*uses, _whole(last.name)))
    return found


def picture_records(
    manifest: Manifest, plan: Iterable[PictureEntry]
) -> tuple[list[PictureRecord], list[str]]:
    """Records of the pictures of a plan and of cuts, and what is wrong with those that
    have none."""
    planned = {one.name: one for one in plan}
    entries = list((of_cuts(manifest.cuts) | planned).values())
    named = NamedPictures(manifest, entries)
    records, problems = [], [*_unclear(manifest.cuts), *_without_alt(planned.values())]
    for entry in entries:
        try:
            markup = named.markup(entry.name)
        except PlanError as error:
            problems.append(error.told)
        else:
            records.append(PictureRecord(name=entry.name, entry=entry, markup=markup))
    return records, problems


def _without_alt(entries: Iterable[PictureEntry]) -> Iterator[str]:
    for entry in entries:
        if entry.alt is None:
            yield (
                f"the picture {entry.name!r} has no alt text. Add alt to its [[pictures]]"
                ' (alt = "" if it is decorative).'
            )


def _unclear(cuts: Iterable[CutRecord]) -> Iterator[str]:
    """Pictures with no cut, or several, for when no media condition matches."""
    grouped: dict[str, list[CutRecord]] = {}
    for cut in cuts:
        if cut.picture:
            grouped.setdefault(cut.picture, []).append(cut)
    for name, own in grouped.items():
        plain = [cut.name for cut in own if not cut.media]
        if len(plain) != 1:
            told = f"{listed(plain)} have no media" if plain else "every cut of it has a media"
            yield (
                f"the picture {name!r}: {told}, so {of_cuts(own)[name].use[-1].cut} is shown where"
                " no condition holds. Let exactly one have none."
            )


def _whole(cut: str) -> PictureUse:
    return PictureUse(cut=cut)
