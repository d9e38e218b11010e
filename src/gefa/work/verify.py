"""Reads every blob that the database names, and has lost or damaged files made again."""

from __future__ import annotations

import logging
from collections import defaultdict
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

from sqlmodel import Session

from gefa.core.files import sha256_of
from gefa.core.threads import cores
from gefa.store.contracts import ShowBody
from gefa.store.mending import mended_by_treating
from gefa.store.models import Revision, Source, Task
from gefa.store.references import Reference, Role, references
from gefa.store.store import Store
from gefa.store.task_rows import enqueue
from gefa.work.perform import perform
from gefa.work.pool import Pool

log = logging.getLogger("gefa.verify")
Tell = Callable[[int, int], None]
"""called with the number of blobs read, and of all blobs"""


@dataclass
class Verified:
    """The result of a check: of ``blobs`` some are ``lost``, others ``damaged``; ``mended`` are
    intact again, ``asked`` will be made by the server, ``beyond`` cannot be made again."""

    blobs: int = 0
    bytes: int = 0
    lost: list[Reference] = field(default_factory=list)
    damaged: list[Reference] = field(default_factory=list)
    mended: list[Reference] = field(default_factory=list)
    asked: list[Reference] = field(default_factory=list)
    beyond: list[Reference] = field(default_factory=list)

    @property
    def broken(self) -> list[Reference]:
        return self.lost + self.damaged


def verify(store: Store, *, repair: bool = False, tell: Tell = lambda done, of: None) -> Verified:
    """Read every needed blob and compare its hash. With ``repair``, blobs that can be made again
    are; a server may run meanwhile."""
    with store.reading() as session:
        needed = {found.sha256: found for found in references(session)}
    done = Verified(blobs=len(needed))
    with ThreadPoolExecutor(cores()) as threads:
        states = threads.map(lambda name: _state(store, name), needed)
        for number, (reference, state) in enumerate(zip(needed.values(), states, strict=True), 1):
            if state is None:
                done.lost.append(reference)
            elif state < 0:
                done.damaged.append(reference)
            else:
                done.bytes += state
            tell(number, len(needed))
    if repair and done.broken:
        _repair(store, done)
    return done


def _state(store: Store, sha256: str) -> int | None:
    """The size of an intact blob in bytes; -1 for a damaged one, None for a missing one."""
    path = store.blobs.path(sha256)
    try:
        if sha256_of(path) != sha256:
            return -1
        return path.stat().st_size
    except FileNotFoundError:
        return None
    except OSError:
        return -1


def _repair(store: Store, done: Verified) -> None:
    for reference in done.damaged:
        store.blobs.set_aside(reference.sha256)
    broken = [one for one in done.broken if not _recalled(store, one, done)]
    _make_again(store, broken)
    with store.changing() as session:
        for reference in broken:
            if store.blobs.is_whole(reference.sha256):
                done.mended.append(reference)
            elif _asked(session, store, reference):
                done.asked.append(reference)
            else:
                done.beyond.append(reference)


def _recalled(store: Store, reference: Reference, done: Verified) -> bool:
    """Restore an intact copy from the trash; returns whether there was one."""
    if not (store.blobs.touch(reference.sha256) and store.blobs.is_whole(reference.sha256)):
        return False
    done.mended.append(reference)
    return True


def _make_again(store: Store, broken: Iterable[Reference]) -> None:
    """Repeat the tasks that made the files: the same pixels and encoders give the same bytes."""
    made_by = defaultdict(list)
    for reference in broken:
        if reference.task:
            made_by[reference.task].append(reference.sha256)
    if not made_by:
        return
    with store.reading() as session:
        tasks = {name: session.get(Task, name) for name in made_by}
    with Pool(cores()) as pool:
        calls = [
            pool.submit(perform, store.folder, task.id, task.kind.value, task.task, 1)
            for task in tasks.values()
            if task is not None and task.task  # those of uploads are forgotten once they are done
        ]
        for call in calls:
            try:
                pool.outcome(call)
            except Exception as error:  # its original may be lost, too; the others go on
                log.warning("%s cannot be made again: %s", call.args[1], error)


def _asked(session: Session, store: Store, reference: Reference) -> bool:
    """Ask the server to make it; returns whether it can."""
    if reference.upload and reference.role is not Role.ORIGINAL and not reference.retired:
        return mended_by_treating(session, store.blobs, reference.upload)
    if reference.role is not Role.DRAWN or not reference.revision:
        return False
    revision = session.get_one(Revision, reference.revision)
    if not store.blobs.is_whole(revision.blob):
        return False
    source = session.get_one(Source, revision.source_id)
    enqueue(session, ShowBody(blob=revision.blob, name=source.name), revision_id=revision.id)
    return True
