"""The housekeeper clears away, from time to time, what nobody needs any more."""

from __future__ import annotations

import logging
import threading
import time
from functools import partial

from gefa.store.desk import sweep_removed
from gefa.store.expiry import Bounds, old_runs, sweep_revisions, sweep_run, sweep_tasks
from gefa.store.keys import note_uses
from gefa.store.ledger import KEPT, sweep_ledger
from gefa.store.sign_ins import sweep_sign_ins
from gefa.store.store import Store
from gefa.store.sweep import (
    RESUMED_WITHIN,
    TRASH_SECONDS,
    Sweep,
    backed_up,
    sweep_blobs,
    sweep_originals,
    sweep_rows,
)
from gefa.store.trail import sweep_trail
from gefa.store.uploads import note_slot_treatments

TURN_SECONDS = 30.0
"""an original that its slot does not keep is deleted within a minute of the upload"""
BLOBS_SECONDS = 24 * 3600.0
"""between two sweeps of all blobs, which read the whole database"""
FIRST_BLOBS_SECONDS = 600.0
"""after the start, when recovery comes first"""
TREATMENTS_AT_ONCE = 500
"""uploads in one transaction: others wait for it"""
log = logging.getLogger("gefa.housekeeper")


class Housekeeper:
    """A thread of the server."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self.sweep = Sweep()
        """what came of the last sweep of all blobs"""
        self._treatments_known = False
        self._stop = threading.Event()
        self._blobs_due = time.monotonic() + FIRST_BLOBS_SECONDS
        self._thread = threading.Thread(target=self._loop, name="housekeeper", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._thread.join(timeout=10)

    def _loop(self) -> None:
        while not self._stop.wait(TURN_SECONDS):
            try:
                self.turn()
            except Exception:
                log.exception("clearing away failed; trying again later")

    def turn(self) -> None:
        """One round."""
        self._store.show_life()
        self._note_uses()
        with self._store.session() as session:
            sweep_originals(session, self._store.blobs)
            broken_off = sweep_rows(session)
        for resumable in broken_off:
            self._store.pieces(resumable).unlink(missing_ok=True)
        while not (self._treatments_known or self._stop.is_set()):
            with self._store.changing() as session:
                self._treatments_known = not note_slot_treatments(session, TREATMENTS_AT_ONCE)
        if time.monotonic() > self._blobs_due:
            self._blobs_due = time.monotonic() + BLOBS_SECONDS
            self._sweep_blobs()
            with self._store.session() as session:
                sweep_ledger(session)
                sweep_trail(session)
                sweep_removed(session)
                sweep_sign_ins(session)
            self._sweep_bounded()
            self._store.blobs.sweep_notes(KEPT.total_seconds())
            self._store.sweep_pieces(RESUMED_WITHIN.total_seconds())

    def _sweep_bounded(self) -> None:
        """Each in small transactions: others wait for them."""
        bounds = Bounds()
        with self._store.reading() as session:
            runs = old_runs(session, bounds.runs)
        for run_id in runs:
            with self._store.changing() as session:
                sweep_run(session, run_id)
        for sweep in (partial(sweep_revisions, days=bounds.days), sweep_tasks):
            while not self._stop.is_set():
                with self._store.changing() as session:
                    if not sweep(session):
                        break

    def _note_uses(self) -> None:
        uses = dict(self._store.uses)
        if uses:
            with self._store.changing() as session:
                note_uses(session, uses)
            for key_id, time in uses.items():
                if self._store.uses.get(key_id) == time:
                    del self._store.uses[key_id]

    def _sweep_blobs(self) -> None:
        with self._store.reading() as session:
            self.sweep = sweep_blobs(session, self._store.blobs, kept=backed_up(self._store.folder))
        if self.sweep.told:
            log.warning("%s", self.sweep.told)
        self._store.blobs.sweep_trash(TRASH_SECONDS)
