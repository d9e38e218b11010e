"""What the pages and the API work with, made once for each application."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, cast

from fastapi import Depends, Request

from gefa.store.store import Store
from gefa.work.foreman import Foreman
from gefa.work.queue import WorkQueue
from gefa.work.watcher import Watcher


@dataclass
class Services:
    """The store, the queue, the foreman who keeps them in step, and the watcher of folders."""

    store: Store
    queue: WorkQueue
    foreman: Foreman
    watcher: Watcher

    @classmethod
    def open(cls, folder: Path, watch_under: Path) -> Services:
        store = Store(folder)
        queue = WorkQueue(folder)
        foreman = Foreman(store, queue)
        return cls(store, queue, foreman, Watcher(store, watch_under, foreman.wake))

    def close(self) -> None:
        self.watcher.stop()
        self.foreman.stop()
        self.queue.close()
        self.store.close()


def _services(request: Request) -> Services:
    return cast(Services, request.app.state.services)


Given = Annotated[Services, Depends(_services)]
