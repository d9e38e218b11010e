"""The pages of a plan, with the files of a manifest."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from gefa.core.deliver.manifest import File, Manifest
from gefa.core.deliver.markup import by_format, worth_offering
from gefa.core.deliver.named_pictures import NamedPictures
from gefa.core.errors import PlanError
from gefa.core.plan.pages import Loading, PageEntry, PagePicture, PictureEntry
from gefa.core.weigh.shown import ShownFile, ShownPage, ShownPicture, ShownSource


class SitePages:
    """Pages that list their pictures. Each is weighed as its markup would be; a test compares the
    two."""

    def __init__(self, manifest: Manifest, entries: Sequence[PictureEntry]) -> None:
        self.named = NamedPictures(manifest, entries)
        self._files = {file.path: file for file in manifest.files}
        self._shown: dict[tuple[str, str], ShownPicture] = {}

    def page(self, entry: PageEntry) -> ShownPage:
        """A page of the plan; pictures that cannot be shown are among its problems."""
        shown, problems = [], []
        for one in entry.pictures:
            try:
                shown.append(self.picture(one))
            except PlanError as error:
                problems.append(error.told)
        return ShownPage(entry.called, tuple(shown), tuple(dict.fromkeys(problems)))

    def picture(self, one: PagePicture) -> ShownPicture:
        """PlanError if the picture, or one of its cuts, is missing."""
        entry = self.named.entry(one.picture)
        key = (one.picture, one.sizes)
        if key not in self._shown:
            sources = tuple(self._sources(entry, one.sizes))
            self._shown[key] = ShownPicture(one.picture, sources, alt=entry.alt or "")
        loading = one.loading or entry.loading
        return replace(
            self._shown[key], eager=loading is Loading.EAGER, seen=one.seen, times=one.times
        )

    def _sources(self, entry: PictureEntry, sizes: str) -> Iterator[ShownSource]:
        """The sources that ``directed`` writes: one for each condition and format, and the
        ``<img>``, which every browser shows."""
        cases = self.named.cases(entry, sizes)
        fixed = self.named.by_density(entry, sizes)
        groups = [
            (case, group) for case in cases for group in by_format(worth_offering(case.offers))
        ]
        for at, (case, (format, offers)) in enumerate(groups):
            yield ShownSource(
                tuple(_shown(self._files[offer.url]) for offer in offers),
                f"{case.size.width}px" if fixed else case.sizes,
                case.media,
                None if at == len(groups) - 1 else format,
            )


def _shown(file: File) -> ShownFile:
    return ShownFile(
        file.path, file.format, float(file.width), file.width, file.height, file.sent, file.cut
    )
