"""The pages of a plan, with the files of a manifest."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from gefa.core.deliver.manifest import Manifest
from gefa.core.deliver.markup import quoted_url
from gefa.core.deliver.named_pictures import NamedPictures
from gefa.core.errors import PlanError
from gefa.core.plan.pages import Loading, PageEntry, PagePicture, PictureEntry
from gefa.core.weigh.addresses import FoundFile, of_made
from gefa.core.weigh.html_page import read_markup
from gefa.core.weigh.shown import ShownPage, ShownPicture
from gefa.core.weigh.shown_markup import shown_markup


class SitePages:
    """Pages that list their pictures. Each is weighed by its own markup, as it would stand in the
    page."""

    def __init__(self, manifest: Manifest, entries: Sequence[PictureEntry]) -> None:
        self.named = NamedPictures(manifest, entries)
        self._files = {quoted_url(file.path): of_made(file) for file in manifest.files}
        self._shown: dict[tuple[str, str, str], ShownPicture] = {}

    def page(self, entry: PageEntry) -> ShownPage:
        """A page of the plan; what it cannot show is among its problems."""
        shown, problems = [], []
        for one in entry.pictures:
            try:
                shown.append(self.picture(one))
            except PlanError as error:
                problems.append(error.told)
        return ShownPage(entry.called, tuple(shown), tuple(dict.fromkeys(problems)))

    def picture(self, one: PagePicture) -> ShownPicture:
        """PlanError where it, or one of its cuts, is not there."""
        entry = self.named.entry(one.picture)
        loading = (one.loading or entry.loading).value
        key = (one.picture, one.sizes, loading)
        if key not in self._shown:
            markup = self.named.markup(one.picture, sizes=one.sizes, loading=loading)
            found = shown_markup(read_markup(markup), self._file).pictures
            if not found:
                raise PlanError(f"the picture {one.picture!r} has no files: CSS draws it.")
            picture = replace(
                found[0], name=one.picture, eager=loading == Loading.EAGER.value, alt=entry.alt
            )
            sizes = one.sizes or entry.sizes
            # The markup of a drawing has no sizes, and one file for all of them.
            self._shown[key] = _sized(picture, sizes) if sizes else picture
        return replace(self._shown[key], seen=one.seen, times=one.times)

    def _file(self, url: str) -> FoundFile | str:
        return self._files.get(url) or f"{url} is not in the manifest"


def _sized(picture: ShownPicture, sizes: str) -> ShownPicture:
    sources = tuple(
        replace(source, sizes=sizes) if source.files[0].drawn else source
        for source in picture.sources
    )
    return replace(picture, sources=sources)
