"""Sends webhook notices, and tries again until the address accepts them.

What is sent and how it is signed is as Standard Webhooks 1.0.0 has it.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import logging
import ssl
import threading
from base64 import b64decode, b64encode
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from ipaddress import IPv4Address, ip_address, ip_network

import anyio
import httpx

from gefa.store.models import Notification, Slot, Upload, now
from gefa.store.notices import due_by_slot, tried
from gefa.store.replacement import public_view
from gefa.store.store import Store
from gefa.web.api.answers import described

PAUSE_SECONDS = 1.0
"""between two checks for notices: nobody waits for them at a screen"""
PATIENCE_SECONDS = 10.0
"""for everything at an address: its name, the connection, the answer"""
AT_ONCE = 16
"""slots whose notices are sent in parallel"""
log = logging.getLogger("gefa.courier")


def signature(secret: str, id: str, moment: datetime, body: str) -> str:
    """HMAC-SHA256 over ``id.seconds.body``, in base64 after its version."""
    key = b64decode(secret.removeprefix("whsec_"))
    signed = f"{id}.{int(moment.timestamp())}.{body}".encode()
    return f"v1,{b64encode(hmac.digest(key, signed, hashlib.sha256)).decode()}"


class Courier:
    """A thread of the server, plus one for each slot with notices to send: an address that does not
    answer delays no other. Gefa sends to addresses inside the machine or its network only with
    ``local``."""

    def __init__(self, store: Store, *, local: bool = False) -> None:
        self._store = store
        self._local = local
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._loop, name="courier", daemon=True)
        self._tellers = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="courier")
        self._busy: set[str] = set()
        self._lock = threading.Lock()
        self._trust = ssl.create_default_context()

    def start(self) -> None:
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(timeout=PAUSE_SECONDS + 1)
        self._tellers.shutdown(wait=True, cancel_futures=True)

    def _loop(self) -> None:
        while not self._stop.wait(PAUSE_SECONDS):
            try:
                self.turn()
            except Exception:
                log.exception("telling others failed; trying again")

    def turn(self) -> None:
        """Send all notices that are due, one after another for each slot."""
        with self._store.reading() as session:
            waiting = due_by_slot(session)
        for slot, notices in waiting.items():
            with self._lock:
                if slot in self._busy:
                    continue
                self._busy.add(slot)
            self._tellers.submit(self._tell_all, slot, notices)

    def _tell_all(self, slot: str, notices: list[str]) -> None:
        try:
            for notice in notices:
                if self._stop.is_set():
                    return
                self._tell(notice)
        except Exception:
            log.exception("telling the address of slot %s failed; trying again", slot)
        finally:
            with self._lock:
                self._busy.discard(slot)

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
            answer = described(session, public_view(upload), slot).model_dump(mode="json")
        moment = now()
        told = {"type": notice.kind, "timestamp": moment.isoformat(), "data": answer}
        problem = self._posted(notice, slot.secret, moment, json.dumps(told))
        with self._store.session() as session:
            # Another thing to tell may have come meanwhile: then this one is due again.
            again = session.get(Notification, id)
            if again is not None and again.due == notice.due:
                tried(session, again, problem)

    def _posted(self, notice: Notification, secret: str, moment: datetime, body: str) -> str:
        """Why sending failed; empty if it succeeded. Any failure counts as one attempt."""
        headers = {
            "Content-Type": "application/json",
            "webhook-id": notice.id,
            "webhook-timestamp": str(int(moment.astimezone(UTC).timestamp())),
            "webhook-signature": signature(secret, notice.id, moment, body),
        }
        try:
            status = anyio.run(self._post, notice.url, headers, body.encode())
        except TimeoutError:
            return f"it took longer than {PATIENCE_SECONDS:.0f} s"
        except Refused as error:
            return str(error)
        except Exception as error:
            return f"it could not be reached ({type(error).__name__}): {error}"
        return "" if 200 <= status < 300 else f"it answered {status}"

    async def _post(self, url: str, headers: dict[str, str], body: bytes) -> int:
        """The status of the answer; its body is not read."""
        with anyio.fail_after(PATIENCE_SECONDS):
            address = httpx.URL(url)
            found = await self._allowed(address)
            async with httpx.AsyncClient(verify=self._trust, timeout=PATIENCE_SECONDS) as client:
                # To the address that was looked at: the name may mean another one by now.
                request = client.build_request(
                    "POST",
                    address.copy_with(host=found),
                    headers={**headers, "Host": address.netloc.decode("ascii")},
                    content=body,
                    extensions={"sni_hostname": address.raw_host.decode("ascii")},
                )
                answer = await client.send(request, stream=True, follow_redirects=False)
                await answer.aclose()
                return answer.status_code

    async def _allowed(self, address: httpx.URL) -> str:
        """The IP address of a host name; Refused if it lies inside this network."""
        port = address.port or (443 if address.scheme == "https" else 80)
        found = await anyio.getaddrinfo(address.raw_host.decode("ascii"), port)
        for *_, place in found:
            if self._local or is_public(str(place[0]).partition("%")[0]):
                return str(place[0])
        raise Refused("it lies inside this machine or network; allow that with --local-webhooks")


_EMBEDDING = (ip_network("64:ff9b::/96"), ip_network("::/96"), ip_network("::ffff:0:0/96"))
"""networks whose last 32 bits are an IPv4 address (RFC 6052, RFC 4291)"""


def is_public(address: str) -> bool:
    """Whether an IP address lies in the public internet, also the IPv4 address that an IPv6 address
    stands for."""
    found = ip_address(address)
    if found.version == 6:
        inner = found.sixtofour
        if any(found in network for network in _EMBEDDING):
            inner = IPv4Address(int(found) & 0xFFFFFFFF)
        if inner is not None:
            return is_public(str(inner))
        if found.is_site_local or found.teredo is not None:
            return False
    return found.is_global and not found.is_multicast


class Refused(Exception):
    """An address that notices must not go to."""
