"""``gefa weigh``: what the pages of a site send, from its plan, its out folder, and built HTML."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from cachetools import LRUCache

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import GefaError, PlanError, SourceError
from gefa.core.plan.pages import PageEntry
from gefa.core.plan.plan import Plan
from gefa.core.weigh.addresses import Addresses, FindUpload
from gefa.core.weigh.audience import NEUTRAL, Audience, audience_of, neutral
from gefa.core.weigh.faults import MarkupFault, faults_of
from gefa.core.weigh.html_page import MOST_BYTES, HtmlPage, read_page
from gefa.core.weigh.page_weight import PageWeight, weigh_page
from gefa.core.weigh.shown import ShownPage
from gefa.core.weigh.shown_markup import shown_markup
from gefa.core.weigh.site_pages import SitePages
from gefa.folder.site_files import DATA
from gefa.store.database import DATABASE

HTML = (".html", ".htm", ".xhtml")
MOST_PAGES = 20_000
MOST_UNUSED = 12
"""files that are listed one by one"""
_READ: LRUCache[tuple[str, int, int, str], HtmlPage] = LRUCache(2_000)
_READ_LOCK = threading.Lock()


def audience_called(plan: Plan, name: str, base: Path | None) -> Audience:
    """An audience by name; without one the plan's first, else the neutral one. PlanError if it does
    not exist, or its file cannot be read."""
    entries = {entry.name: entry for entry in plan.audiences}
    if name in entries:
        return audience_of(entries[name], base)
    if not name and plan.audiences:
        return audience_of(plan.audiences[0], base)
    if name not in ("", NEUTRAL):
        known = ", ".join([*entries, NEUTRAL])
        raise PlanError(f"there is no audience {name!r}.", advice=f"Known: {known}.")
    return neutral()


@dataclass
class Weighing:
    """Weighs pages by one plan and one manifest, for one audience. ``base`` is the plan's folder,
    which contains built pages; None if there is none. ``uploads`` finds files of uploads that pages
    show."""

    plan: Plan
    manifest: Manifest
    audience: Audience
    base: Path | None
    out: Path | None = None
    uploads: FindUpload = lambda address: None
    faults: list[MarkupFault] = field(default_factory=list)
    shown: list[ShownPage] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._site = SitePages(self.manifest, self.plan.pictures)
        self._addresses: dict[Path, Addresses] = {}

    def pages(self, names: Sequence[str] = (), *, visits: bool = True) -> list[PageWeight]:
        """The pages of the plan, or those with these names."""
        entries = [one for one in self.plan.pages if not names or one.called in names]
        return [self.page(entry, visits=visits) for entry in entries]

    def page(self, entry: PageEntry, *, visits: bool = True) -> PageWeight:
        """One page of the plan. What cannot be read is among its problems."""
        shown = self._of_html(entry) if entry.html else self._site.page(entry)
        self.shown.append(shown)
        return weigh_page(shown, self.audience, entry.budget, visits=visits)

    def html(self, file: Path, root: Path, name: str = "") -> PageWeight:
        """A built page that the plan does not name. SourceError if it cannot be read."""
        shown = self._read(file, root, name or file.relative_to(root).as_posix())
        self.shown.append(shown)
        return weigh_page(shown, self.audience)

    def tell_unused(self, root: Path) -> None:
        """Add files that no page below ``root`` refers to as faults."""
        addresses = self._addresses.get(root)
        unused = [file.path for file in addresses.unused()] if addresses else []
        told = [f"no page refers to {path}" for path in unused[:MOST_UNUSED]]
        if len(unused) > MOST_UNUSED:
            told.append(f"and to {len(unused) - MOST_UNUSED:,} other files")
        self.faults += [MarkupFault(page=root.name or ".", line=0, reason=one) for one in told]

    def _of_html(self, entry: PageEntry) -> ShownPage:
        assert entry.html is not None
        if self.base is None:
            problem = f"{entry.html} is in the site's folder, which is not here"
            return ShownPage(entry.called, (), (problem,))
        try:
            return self._read(self.base / entry.html, self.base, entry.called)
        except GefaError as error:
            return ShownPage(entry.called, (), (str(error),))

    def _read(self, file: Path, root: Path, name: str) -> ShownPage:
        path = file.relative_to(root).as_posix()
        page = _page_of(file, path)
        if root not in self._addresses:
            self._addresses[root] = Addresses(root, self.manifest, self.out, self.uploads)
        addresses = self._addresses[root]
        found = shown_markup(page, lambda url: addresses.find(url, path, page.base))
        self.faults += [MarkupFault(page=name, line=line, reason=r) for line, r in found.problems]
        self.faults += faults_of(name, page, found.pictures, self.audience)
        return ShownPage(name, tuple(found.pictures))


def uploads_folder(base: Path | None) -> Path | None:
    """The uploads folder of a server that works on the site, if there is one."""
    data = base / DATA if base is not None else None
    return data if data is not None and (data / DATABASE).is_file() else None


def html_below(folder: Path) -> Iterator[Path]:
    """The built pages below a folder, by path. PlanError if there are none, or too many."""
    found = sorted(
        path for path in folder.rglob("*") if path.suffix.lower() in HTML and path.is_file()
    )
    if not found:
        raise PlanError("holds no HTML.", file=str(folder))
    if len(found) > MOST_PAGES:
        raise PlanError(f"holds more than {MOST_PAGES:,} pages.", file=str(folder))
    return iter(found)


def natural_widths(manifest: Manifest) -> dict[str, int]:
    """The largest possible width of each cut, in px: its own, or that of a wider file."""
    found = {cut.name: cut.width for cut in manifest.cuts}
    for file in manifest.files:
        found[file.cut] = max(file.width, found.get(file.cut, 0))
    return found


def unknown_names(plan: Plan, names: Iterable[str]) -> list[str]:
    """Names that are not pages of the plan."""
    known = {entry.called for entry in plan.pages}
    return [name for name in names if name not in known]


def _page_of(file: Path, path: str) -> HtmlPage:
    """The page in a file, read again only if the file has changed."""
    try:
        state = file.stat()
    except OSError:
        return read_page(_bytes_of(file), path)  # says why the file cannot be read
    key = (str(file), state.st_mtime_ns, state.st_size, path)
    with _READ_LOCK:
        known = _READ.get(key)
    if known is None:
        known = read_page(_bytes_of(file), path)
        with _READ_LOCK:
            _READ[key] = known
    return known


def _bytes_of(file: Path) -> bytes:
    try:
        with file.open("rb") as opened:
            return opened.read(MOST_BYTES + 1)
    except OSError as error:
        raise SourceError(
            f"cannot be read: {error.strerror}.", file=str(file), advice="Build the site first."
        ) from error
