"""``serve --site``: keeps the plan file in step, and writes runs to ``out``."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from datetime import datetime
from pathlib import Path

from sqlmodel import Session, col, select

from gefa.core.cut.glob import covers
from gefa.core.errors import GefaError, PlanError
from gefa.core.files import stamp, write_whole
from gefa.core.plan.load import load_plan
from gefa.core.plan.plan import Plan
from gefa.folder.plan_file import PlanFile
from gefa.folder.run_output import write_run
from gefa.folder.site_files import DATA, PLAN_FILE, out_folder, refuse_sources_in
from gefa.folder.source_watcher import Place
from gefa.store.models import Run, RunSource, as_utc
from gefa.store.plans import shared_plan
from gefa.store.site_plan import plan_mark, site_plan
from gefa.store.sources import present
from gefa.store.store import Store

TURN_SECONDS = 0.7
"""between two checks of the file, the plan and the runs"""
MOST_TOLD = 3
"""files that could not be written, of each run"""
log = logging.getLogger("gefa.site")


def data_folder(folder: Path) -> Path:
    """The application's data folder in a repository, which is not tracked. PlanError if there is no
    plan file."""
    if not (folder / PLAN_FILE).is_file():
        raise PlanError(
            f"there is no {PLAN_FILE} in {folder}.", advice=f"Write one with `gefa init {folder}`."
        )
    data = folder / DATA
    data.mkdir(exist_ok=True)
    if not (data / ".gitignore").exists():
        write_whole(data / ".gitignore", b"*\n")
    return data


class SiteFolder:
    """A thread of the server. ``changed`` is called when the file has changed the plan."""

    def __init__(self, store: Store, folder: Path, changed: Callable[[], None]) -> None:
        self._store, self._changed = store, changed
        self.folder = folder.resolve()
        self.plan_file = PlanFile(store, self.folder / PLAN_FILE)
        self.problem = ""
        """why the last run could not be written"""
        self._written = store.folder / "written"
        self._seen: tuple[tuple[int, ...], str] | None = None
        self._stamp = stamp(self.plan_file.path)
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="site", daemon=True)

    def start(self) -> None:
        """Read the plan file, then continue in the background."""
        self.plan_file.follow()
        self._thread.start()

    def stop(self) -> None:
        self._ending.set()
        self._thread.join(timeout=10)

    def place(self) -> Place:
        """The folder of the sources, and which of its files are sources."""
        with self._store.reading() as session:
            plan = shared_plan(session)
        globs = [glob for entry in plan.sources for glob in entry.files]
        try:
            out = self._checked_out()
        except PlanError:
            out = None
        return Place(
            self.folder,
            lambda name: not globs or any(covers(glob, name) for glob in globs),
            without=(out,) if out else (),
            whole_site=True,
        )

    @property
    def out(self) -> Path | None:
        """The folder for files; None if the plan does not name one that can be used."""
        try:
            return self._checked_out()
        except PlanError:
            return None

    def _checked_out(self) -> Path:
        """The folder for files. PlanError if the plan names none, or one that cannot be used."""
        with self._store.reading() as session:
            name = shared_plan(session).out
            sources = [self.folder / source.name for source in present(session)]
        if not name:
            raise PlanError(
                "the plan names no folder for the files.",
                file=PLAN_FILE,
                advice='Add a line such as out = "img".',
            )
        out = out_folder(name, self.folder)
        refuse_sources_in(out, sources)
        return out

    def _loop(self) -> None:
        while not self._ending.wait(TURN_SECONDS):
            try:
                self.turn()
            except Exception:
                log.exception("keeping %s in step failed; trying again", self.folder)

    def turn(self) -> None:
        """Check everything once."""
        with self._store.reading() as session:
            mark = plan_mark(session)
            runs = _finished_since(session, self._last_written())
        if self._plan_is_whole():
            self._follow_plan(mark)
        for run_id, finished in runs:
            self._write(run_id)
            write_whole(self._written, finished.isoformat().encode())

    def _plan_is_whole(self) -> bool:
        """Whether the plan file is as it was a turn ago. Many programs empty a file before they
        write it, and what an empty or cut file says is a plan too, without most of the sources."""
        before, self._stamp = self._stamp, stamp(self.plan_file.path)
        return self._stamp == before

    def _follow_plan(self, mark: str) -> None:
        seen = self._stamp, mark
        if seen != self._seen:
            self.plan_file.follow()
            self._changed()
            self._tell_of_out()
            self._seen = seen  # as it was before: what is saved meanwhile is the next turn's

    def _last_written(self) -> datetime | None:
        try:
            return datetime.fromisoformat(self._written.read_text("ascii"))
        except (OSError, ValueError):
            return None

    def _tell_of_out(self) -> None:
        try:
            self._checked_out()
            self.problem = ""
        except PlanError as error:
            self.problem = str(error)

    def _write(self, run_id: str) -> None:
        try:
            out = self._checked_out()
            taken = write_run(self._store, run_id, self.folder, out, self._plan())
            self.problem = " ".join(taken[:MOST_TOLD])
        except (GefaError, OSError) as error:
            self.problem = error.told if isinstance(error, GefaError) else str(error)
            log.warning("run %s could not be written: %s", run_id, self.problem)
        except Exception as error:  # told, and no reason to hold back the runs after it
            self.problem = f"{type(error).__name__}: {error}. Run it again."
            log.exception("run %s could not be written", run_id)

    def _plan(self) -> Plan:
        try:
            return load_plan(self.plan_file.path)
        except GefaError:
            with self._store.reading() as session:
                return site_plan(session)


_WHOLE = select(RunSource.run_id).where(RunSource.basis != "")
"""runs of everything the plan says of their sources"""


def _finished_since(session: Session, last: datetime | None) -> list[tuple[str, datetime]]:
    """Runs that finished later, in order."""
    found = session.exec(
        select(Run.id, Run.finished)
        .where(col(Run.finished).is_not(None), col(Run.id).in_(_WHOLE))
        .order_by(col(Run.finished))
    )
    times = [(run_id, as_utc(finished)) for run_id, finished in found if finished is not None]
    return [(run_id, time) for run_id, time in times if last is None or time > last]
