"""What the pages and the API work with, made once for each application."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, cast

from fastapi import Depends, Request

from gefa.store.store import Store
from gefa.work.foreman import Foreman
from gefa.work.queue import WorkQueue


@dataclass
class Services:
    """The store, the queue, and the foreman who keeps them in step."""

    store: Store
    queue: WorkQueue
    foreman: Foreman

    @classmethod
    def open(cls, folder: Path) -> Services:
        store = Store(folder)
        queue = WorkQueue(folder)
        return cls(store, queue, Foreman(store, queue))

    def close(self) -> None:
        self.foreman.stop()
        self.queue.close()
        self.store.close()


def _services(request: Request) -> Services:
    return cast(Services, request.app.state.services)


Given = Annotated[Services, Depends(_services)]
