"""Works out what a run of each source would make, ready for *Sources*."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable

from sqlmodel import Session, select

from gefa.core.errors import GefaError
from gefa.core.make.foresight import foresee
from gefa.core.make.naming import wanted_paths
from gefa.core.make.prepare import Prepared, give_names
from gefa.store import ledger
from gefa.store.actor import Actor, acting
from gefa.store.contracts import EstimateBody
from gefa.store.desk_rows import known_outlooks
from gefa.store.models import Outlook, RevisionState, Source, Task, TaskState
from gefa.store.plans import expanded_for
from gefa.store.run_choice import Chosen, choose
from gefa.store.runs import start_run
from gefa.store.sources import newest_revisions
from gefa.store.standing import Bases
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.store.task_rows import enqueue
from gefa.store.waiting_runs import due_runs, stop_waiting

AT_ONCE = 2
"""cuts in one task: few enough that the last one is not long"""
BATCH = 40
"""sources between two reads of the database"""
TURN_SECONDS = 20.0
log = logging.getLogger("gefa.outlooks")


class Outlooks:
    """A thread of the server; it also starts runs whose sources are read. It uses at most half of
    one core, and reads nothing while nobody changes anything. Unknown values are requested from
    workers; ``tell`` is called after such a request."""

    def __init__(self, store: Store, tell: Callable[[], None] = lambda: None) -> None:
        self._store, self._tell = store, tell
        self._ending = False
        self._due = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="outlooks", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._ending = True
        self._due.set()
        self._thread.join(timeout=10)

    def wake(self) -> None:
        """Something has changed: a plan, a recipe, a source."""
        self._due.set()

    def _loop(self) -> None:
        while not self._ending:
            self._due.wait(TURN_SECONDS)
            self._due.clear()
            try:
                while not self._ending and self.turn():
                    pass
            except Exception:
                log.exception("working out what sources make failed; trying again later")

    def turn(self) -> bool:
        """Work out some; returns whether there were any."""
        started = time.monotonic()
        if start_waiting_runs(self._store):
            self._tell()
        with self._store.reading() as session:
            found = _worked_out(session)
        if not found:
            return False
        asked = False
        with self._store.changing() as session:
            for outlook, body in found:
                # A source may have gone meanwhile.
                if session.get(Source, outlook.source_id) is None:
                    continue
                session.merge(outlook)
                if body is not None:
                    asked = True
                    _ask(session, outlook.source_id, body)
        if asked:
            self._tell()
        time.sleep(min(1.0, time.monotonic() - started))
        return True


def start_waiting_runs(store: Store) -> bool:
    """Start the runs whose sources are read; returns whether there were any. They are planned
    before the database is locked."""
    with store.reading() as session:
        found = due_runs(session)
    for due in found:
        with store.changing() as session:
            run = stop_waiting(session, due.run_id)
            if run is not None:
                with acting(Actor(run.who)):
                    start_run(session, due.planned, due.refused, run=run)
    return bool(found)


Found = tuple[Outlook, EstimateBody | None]
"""an outlook, and the estimate to request for it"""


def _ask(session: Session, source_id: str, body: EstimateBody) -> None:
    """Request estimates of cuts that nobody is estimating yet; waiting requests for an older plan
    of the source are dropped."""
    open_tasks = select(Task).where(
        Task.kind == TaskKind.ESTIMATE,
        Task.source_id == source_id,
        Task.state == TaskState.QUEUED,
    )
    under_way: set[str] = set()
    for task in session.exec(open_tasks).all():
        if task.sent:
            asked = EstimateBody.model_validate(task.task).jobs
            under_way.update(job.estimate_key for job in asked)
        else:
            session.delete(task)
    jobs = [job for job in body.jobs if job.estimate_key not in under_way]
    for start in range(0, len(jobs), AT_ONCE):
        some = body.model_copy(update={"jobs": jobs[start : start + AT_ONCE]})
        enqueue(session, some, source_id=source_id, name=f"estimate of {body.name}")


def _worked_out(session: Session) -> list[Found]:
    """A batch of outlooks of sources whose last one is outdated."""
    bases = Bases(session)
    known = known_outlooks(session)
    due: dict[str, str] = {}
    for one in newest_revisions(session):
        digest = bases.digest(one.revision_id, one.source_id, one.name)
        last = known.get(one.source_id)
        holds = last is not None and bases.holds(digest, last.basis, last.recipes)
        if one.state is RevisionState.READY and not holds:
            due[one.source_id] = digest
        if len(due) == BATCH:
            break
    chosen = choose(session, due).chosen if due else []
    found = {one.source.id: _outlook(session, one, bases) for one in chosen}
    # What cannot be planned is told on its own screen.
    return [
        found.get(id) or (Outlook(source_id=id, basis=digest), None) for id, digest in due.items()
    ]


def _outlook(session: Session, one: Chosen, bases: Bases) -> Found:
    try:
        prepared = expanded_for(session, *one, bases.stems)
        paths = wanted_paths(prepared.jobs, prepared.originals)
        give_names([prepared])
        problem = "; ".join(remark.reason for remark in prepared.failed[:1])
    except GefaError as error:
        prepared, problem, paths = Prepared(), error.told, []
    basis = bases.of(one.revision, one.source, one.plan, prepared.jobs)
    keys = (variant.key for job in prepared.jobs for variant in job.variants)
    made = ledger.known(session, keys)
    facts = ledger.facts(session, (job.facts_key for job in prepared.jobs if job.variants))
    estimates = ledger.estimates(session, (job.estimate_key for job in prepared.jobs))
    seen = [
        foresee(job, facts.get(job.facts_key), made, estimates.get(job.estimate_key))
        for job in prepared.jobs
    ]
    unknown = [
        job
        for job, one in zip(prepared.jobs, seen, strict=True)
        if not one.decided and job.estimate_key not in estimates and job.variants
    ]
    outlook = Outlook(
        source_id=one.source.id,
        basis=basis.digest,
        recipes=dict(basis.recipes),
        cuts=len(prepared.jobs),
        files=sum(len(one.variants) for one in seen),
        # A guess would be off by several times: nothing is told until it is estimated.
        bytes=0 if unknown else sum(one.expected for one in seen),
        paths=paths,
        problem=problem,
    )
    if not unknown:
        return outlook, None
    return outlook, EstimateBody(blob=one.revision.blob, name=one.source.name, jobs=unknown)
