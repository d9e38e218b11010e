"""Names in a plan of sources, parts, cuts and pictures that the site does not have."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from difflib import get_close_matches

from gefa.core.plan.plan import Plan
from gefa.core.plan.problems import Place


def unknown_sources(plan: Plan, names: Collection[str]) -> Iterator[tuple[Place, str]]:
    """The ``[[cuts]]`` and ``[[slices]]`` of sources that are not among ``names``, each with its
    place in the plan and the closest one."""
    asked: list[tuple[Place, str | None]] = [
        *((("cuts", at, "source"), cut.source) for at, cut in enumerate(plan.cuts)),
        *((("slices", at, "source"), entry.source) for at, entry in enumerate(plan.slices)),
    ]
    for place, source in asked:
        if source is not None and source not in names:
            yield place, f"there is no source {_quoted(source, names)}"


def unknown_parts(
    plan: Plan, missing: Collection[str], parts: Collection[str]
) -> Iterator[tuple[Place, str]]:
    """The ``[[cuts]]`` whose part is among the ``missing``, each with its place in the plan and the
    closest of the ``parts`` that there are."""
    for at, entry in enumerate(plan.cuts):
        if entry.part in missing:
            yield ("cuts", at, "part"), f"no source has the part {_quoted(entry.part, parts)}"


def unknown_pictures(plan: Plan, cuts: Collection[str]) -> Iterator[tuple[Place, str]]:
    """The cuts that ``[[pictures]]`` show and the pictures of ``[[pages]]`` that do not exist.
    ``cuts`` are the names of all cuts, and of pictures that cuts name."""
    for at, picture in enumerate(plan.pictures):
        for number, use in enumerate(picture.use):
            if use.cut not in cuts:
                place = ("pictures", at, "use", number, "cut")
                yield place, f"there is no cut {_quoted(use.cut, cuts)}"
    known = {*cuts, *(picture.name for picture in plan.pictures)}
    for at, page in enumerate(plan.pages):
        for number, shown in enumerate(page.pictures):
            if shown.picture not in known:
                place = ("pages", at, "pictures", number, "picture")
                yield place, f"there is no picture {_quoted(shown.picture, known)}"


def _quoted(name: str, known: Collection[str]) -> str:
    close = get_close_matches(name, known, n=1, cutoff=0.4)
    return f"{name!r}; did you mean {close[0]!r}?" if close else repr(name)
