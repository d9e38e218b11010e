"""Visitors' requests for a variant: how many a second, quiet and while a batch runs. Needs wrk."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from gefa.serve import free_port
from gefa.store.keys import Right, new_key
from gefa.store.slots import add_slot
from gefa.store.store import Store

SECONDS = 6
WIDTH = 960


@dataclass
class Delivered:
    """Requests for each second, and the longest in ms that 99 of 100 took, by wrk."""

    quiet: float
    busy: float
    quiet_ms: float
    busy_ms: float
    bytes: int
    encoding: bool

    @property
    def kept(self) -> float:
        """The share of requests that is left while a batch runs."""
        return self.busy / self.quiet


def delivered(photos: list[Path], folder: Path) -> Delivered:
    """One process serves a variant to 16 connections while two workers treat ``photos``."""
    data = folder / "delivery"
    store = Store(data)
    with store.session() as session:
        slot = add_slot(session, "bench")
        key = new_key(session, slot, "bench", list(Right))
    store.close()
    port = free_port("127.0.0.1", 0)
    command = [sys.executable, "-m", "gefa", "serve", "--data", str(data), "--port", str(port)]
    server = subprocess.Popen([*command, "--workers", str(os.cpu_count() or 2)])
    try:
        url = f"http://127.0.0.1:{port}"
        _wait(url)
        with httpx.Client(base_url=url, headers={"Authorization": f"Bearer {key}"}) as client:
            variant = _upload(client, photos[0], wait=60)["variants"]
            chosen = next(v for v in variant if v["width"] == WIDTH and v["format"] == "webp")
            quiet = _wrk(url + chosen["url"])
            for photo in photos[1:]:
                _upload(client, photo)
            time.sleep(1)
            busy = _wrk(url + chosen["url"])
            encoding = "processing" in client.get("/api/v1/slots/bench/uploads").text
        return Delivered(quiet[0], busy[0], quiet[1], busy[1], chosen["bytes"], encoding)
    finally:
        server.terminate()
        server.wait()


def _wait(url: str) -> None:
    for _ in range(100):
        try:
            httpx.get(f"{url}/runs").raise_for_status()
            return
        except httpx.HTTPError:
            time.sleep(0.2)
    raise SystemExit("the server did not come up")


def _upload(client: httpx.Client, photo: Path, wait: int = 0) -> dict[str, Any]:
    headers = {"Prefer": f"wait={wait}"} if wait else {}
    with photo.open("rb") as file:
        answer = client.post(
            "/api/v1/slots/bench/uploads",
            files={"file": (photo.name, file)},
            headers=headers,
            timeout=wait + 30,
        )
    return dict(answer.raise_for_status().json())


def _wrk(url: str) -> tuple[float, float]:
    """Requests a second, and ms of the 99th percentile."""
    said = subprocess.run(
        ["wrk", "-t1", "-c16", f"-d{SECONDS}s", "--latency", url],
        check=True,
        capture_output=True,
        text=True,
    ).stdout
    if "Non-2xx" in said:
        raise SystemExit(f"not all requests were answered well:\n{said}")
    rate = re.search(r"Requests/sec:\s*([\d.]+)", said)
    late = re.search(r"99%\s*([\d.]+)(us|ms|s)", said)
    assert rate
    assert late
    return float(rate[1]), float(late[1]) * {"us": 0.001, "ms": 1, "s": 1000}[late[2]]
