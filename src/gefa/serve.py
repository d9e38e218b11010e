"""``gefa serve``: the web process, with its workers beside it."""

from __future__ import annotations

import logging
import os
import signal
import socket
import subprocess
import sys
import threading
from ipaddress import ip_address
from pathlib import Path
from types import FrameType

import uvicorn
from starlette.types import ASGIApp

from gefa.core.errors import GefaError
from gefa.store.people import has_owner
from gefa.store.store import Store
from gefa.web.connections import limited_connections, open_files

log = logging.getLogger("gefa.serve")


class WorkerKeeper:
    """Keeps one ``gefa worker`` running while the server runs; none for 0 processes."""

    RESTART_SECONDS = 0.5

    def __init__(self, folder: Path, processes: int) -> None:
        self._command = [
            *(sys.executable, "-m", "gefa", "worker"),
            *("--data", str(folder), "--workers", str(processes), "--server", str(os.getpid())),
        ]
        self._wanted = processes > 0
        self._stop = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, name="worker-keeper", daemon=True)

    def start(self) -> None:
        if self._wanted:
            self._thread.start()

    def _keep(self) -> None:
        while not self._stop.is_set():
            # A session of its own: Ctrl-C reaches the server only, which then stops the worker.
            self._process = subprocess.Popen(self._command, start_new_session=True)
            code = self._process.wait()
            if not self._stop.is_set():
                log.warning("the worker ended with %s; starting another", code)
                self._stop.wait(self.RESTART_SECONDS)

    def stop(self) -> None:
        self._stop.set()
        process = self._process
        if process is not None and process.poll() is None:
            process.terminate()
            try:
                process.wait(timeout=8)
            except subprocess.TimeoutExpired:
                process.kill()
        if self._wanted:
            self._thread.join(timeout=5)


def is_exposed(host: str) -> bool:
    """Whether other machines can reach a server that listens on this address."""
    if host == "localhost":
        return False
    try:
        return not ip_address(host).is_loopback
    except ValueError:
        return True


def check_owner(store: Store, host: str, data: Path) -> None:
    """GefaError if other machines could reach a server without an owner."""
    with store.reading() as session:
        if not is_exposed(host) or has_owner(session):
            return
    raise GefaError(
        f"{host or 'every address'} can be reached from other machines, so an owner is needed"
        " first.",
        advice=f"Add one with `gefa people add NAME --role owner --data {data}`, and open the link"
        " that it prints once the server runs.",
    )


def free_port(host: str, wanted: int) -> int:
    """``wanted`` if nothing listens there, else a free port; 0 asks for any."""
    for port in (wanted, 0):
        with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((host, port))
            except OSError as error:
                if port == 0:
                    raise GefaError(
                        f"cannot listen on {host}: {error.strerror}.",
                        advice="Name another address with --host.",
                    ) from error
                continue
            return int(probe.getsockname()[1])
    return wanted


def serve(folder: Path, app: ASGIApp, host: str, port: int, processes: int) -> None:
    """Serve ``app`` until stopped, with so many worker processes. Accepted work that is not
    finished continues at the next start."""
    keeper = WorkerKeeper(folder, processes)
    config = uvicorn.Config(
        app,
        host=host,
        port=port,
        log_level="warning",
        timeout_graceful_shutdown=2,
        server_header=False,
        http=limited_connections(open_files()),
        ws="none",
    )
    server = uvicorn.Server(config)
    _stop_quietly(server)
    keeper.start()
    try:
        server.run()
    finally:
        keeper.stop()


def _stop_quietly(server: uvicorn.Server) -> None:
    """When the server has shut down, it raises the stopping signal again; ignore it then, since the
    workers must still be stopped."""

    def stop(number: int, frame: FrameType | None) -> None:
        server.should_exit = True

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, stop)
