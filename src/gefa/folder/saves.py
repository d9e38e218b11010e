"""Waits for files to be saved, and until they are saved whole."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path

from watchfiles import watch

from gefa.core.errors import GefaError, SourceError
from gefa.core.files import stamp
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.folder.export import Exported, Exporter
from gefa.folder.export_calls import survey_source
from gefa.folder.out_folder import SCRATCH
from gefa.folder.site_files import SiteFile
from gefa.work.pool import Pool

QUIET_MS = 500
"""after which saves are looked for that came before the folders were watched"""
STILL_SECONDS = 0.12
"""how long a file must keep its size and time to count as saved"""
PATIENCE_SECONDS = 3.0
"""how long an unreadable file may still be being written"""
_LOOK_SECONDS = 0.03
"""short enough that a save is processed before people look up"""


def saved(
    read: Mapping[Path, tuple[int, ...]], stop: threading.Event | None = None
) -> Iterator[set[Path]]:
    """The files that were saved, each time some were and no longer change; ``read`` has their
    stamps (``files.stamp``) from before they were read. Folders are watched, not files: programs
    that save by renaming would be missed otherwise."""
    wanted = {path.resolve(): path for path in read}
    folders = {str(path.parent) for path in wanted}
    changes = watch(
        *folders,
        debounce=100,
        step=20,
        recursive=False,
        stop_event=stop,
        rust_timeout=QUIET_MS,
        yield_on_timeout=True,
    )
    began = False
    for found in changes:
        touched = {wanted[p] for _, name in found if (p := Path(name).resolve()) in wanted}
        if not began:  # what was saved before the folders were watched shows in its stamp
            touched |= {path for path, was in read.items() if stamp(path) != was}
            began = True
        there = {path for path in touched if wait_until_still(path, stop)}
        if there:
            yield there


def wait_until_still(path: Path, stop: threading.Event | None = None) -> bool:
    """Wait until nobody writes to the file any more; False if it is gone."""
    seen, since = _look(path), time.monotonic()
    while time.monotonic() - since < STILL_SECONDS:
        if stop is not None and stop.is_set():
            return False
        time.sleep(_LOOK_SECONDS)
        now = _look(path)
        if now != seen:
            seen, since = now, time.monotonic()
    return seen is not None and seen[1] > 0


def _look(path: Path) -> tuple[int, int] | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size


def wait_until_whole(pool: Pool, source: SiteFile, plan: Plan, out: Path) -> Survey | None:
    """The survey of a file once it can be read; None if it still cannot after a while: then it is
    broken, not half saved."""
    deadline = time.monotonic() + PATIENCE_SECONDS
    path, own = source.path, plan.for_source(source.name)
    while True:
        try:
            found: Survey = pool.call(survey_source, path, source.name, own, True, out / SCRATCH)
            return found
        except SourceError:
            before = _look(path)
            while _look(path) == before:
                if time.monotonic() > deadline:
                    return None
                time.sleep(_LOOK_SECONDS)
            wait_until_still(path)
            deadline = time.monotonic() + PATIENCE_SECONDS


class Watched:
    """Exports again whenever a source or the plan file is saved.

    ``load`` gives the plan; ``report`` gets every export, ``trouble`` plans with errors.
    """

    def __init__(
        self,
        exporter: Exporter,
        pool: Pool,
        load: Callable[[], Plan],
        report: Callable[[Exported, list[SiteFile], float], None],
        trouble: Callable[[GefaError], None],
    ) -> None:
        self._exporter, self._pool = exporter, pool
        self._load, self._report, self._trouble = load, report, trouble

    def run(
        self, sources: list[SiteFile], plan_file: Path | None, stop: threading.Event | None = None
    ) -> None:
        """Export once, then after every save, until stopped."""
        paths = [source.path for source in sources]
        read = {path: stamp(path) for path in ([*paths, plan_file] if plan_file else paths)}
        self._export(sources)
        for changed in saved(read, stop):
            if plan_file in changed:
                self._export(sources)
            else:
                self._export([source for source in sources if source.path in changed])

    def _export(self, sources: list[SiteFile]) -> None:
        started = time.monotonic()
        try:
            plan = self._load()
            found = {
                source.path: wait_until_whole(self._pool, source, plan, self._exporter.out)
                for source in sources
            }
            known = {path: survey for path, survey in found.items() if survey is not None}
            exported = self._exporter.export(sources, plan, follow=True, known=known)
        except GefaError as error:
            self._trouble(error)
            return
        self._report(exported, sources, time.monotonic() - started)
