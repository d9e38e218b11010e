"""Tells other programs what they want to know, and tries again until they took it.

What is sent and how it is signed is as Standard Webhooks 1.0.0 has it.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import logging
import threading
from base64 import b64decode, b64encode
from datetime import UTC, datetime

import httpx

from gefa.store.models import Notification, Slot, Upload, now
from gefa.store.notices import due, tried
from gefa.store.store import Store
from gefa.web.api.answers import described

PAUSE_SECONDS = 1.0
"""between two looks for notices: nobody waits for them at a screen"""
PATIENCE_SECONDS = 10.0
"""the server of an address that answers slowly must not hold up the others"""
log = logging.getLogger("gefa.courier")


def signature(secret: str, id: str, moment: datetime, body: str) -> str:
    """HMAC-SHA256 over ``id.seconds.body``, in base64 after its version."""
    key = b64decode(secret.removeprefix("whsec_"))
    signed = f"{id}.{int(moment.timestamp())}.{body}".encode()
    return f"v1,{b64encode(hmac.digest(key, signed, hashlib.sha256)).decode()}"


class Courier:
    """A thread of the server."""

    def __init__(self, store: Store) -> None:
        self._store = store
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="courier", daemon=True)
        self._client = httpx.Client(timeout=PATIENCE_SECONDS, follow_redirects=False)

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        self._thread.join(timeout=PATIENCE_SECONDS + 1)
        self._client.close()

    def _loop(self) -> None:
        while not self._stop.wait(PAUSE_SECONDS):
            try:
                self.turn()
            except Exception:
                log.exception("telling others failed; trying again")

    def turn(self) -> None:
        """Tell everything that is due."""
        with self._store.reading() as session:
            ids = [notice.id for notice in due(session)]
        for id in ids:
            if self._stop.is_set():
                return
            self._tell(id)

    def _tell(self, id: str) -> None:
        with self._store.session() as session:
            notice = session.get(Notification, id)
            upload = session.get(Upload, notice.upload_id) if notice else None
            if notice is None or upload is None:
                return
            slot = session.get_one(Slot, notice.slot_id)
            if upload.removed is not None:
                notice.due, notice.problem = None, "the upload was removed meanwhile"
                session.add(notice)
                return
            answer = described(session, upload, slot).model_dump(mode="json")
        moment = now()
        told = {"type": notice.kind, "timestamp": moment.isoformat(), "data": answer}
        problem = self._post(notice, slot.secret, moment, json.dumps(told))
        with self._store.session() as session:
            # Another thing to tell may have come meanwhile: then this one is due again.
            again = session.get_one(Notification, id)
            if again.due == notice.due:
                tried(session, again, problem)

    def _post(self, notice: Notification, secret: str, moment: datetime, body: str) -> str:
        """Why it was not taken; empty if it was."""
        headers = {
            "Content-Type": "application/json",
            "webhook-id": notice.id,
            "webhook-timestamp": str(int(moment.astimezone(UTC).timestamp())),
            "webhook-signature": signature(secret, notice.id, moment, body),
        }
        try:
            answer = self._client.post(notice.url, content=body.encode(), headers=headers)
        except httpx.HTTPError as error:
            return f"it could not be reached ({type(error).__name__}): {error}"
        return "" if answer.is_success else f"it answered {answer.status_code}"
