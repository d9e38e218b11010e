"""What the pages and the API work with, made once for each application."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Annotated, cast

from fastapi import Depends, Request

from gefa.core.files import free_bytes
from gefa.folder.site_folder import SiteFolder
from gefa.folder.source_watcher import Watcher
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind
from gefa.web.courier import Courier
from gefa.web.limits import Limits
from gefa.web.problems import no_room
from gefa.web.rates import Tries
from gefa.work.foreman import Foreman
from gefa.work.housekeeper import Housekeeper
from gefa.work.outlooks import Outlooks
from gefa.work.queue import WorkQueue


@dataclass
class Services:
    """The store, the queue, the foreman who keeps them in step, and the other threads beside the
    pages: the watcher of folders, the courier, the housekeeper, and the outlooks."""

    store: Store
    queue: WorkQueue
    foreman: Foreman
    watcher: Watcher
    courier: Courier
    housekeeper: Housekeeper
    outlooks: Outlooks
    limits: Limits
    site: SiteFolder | None = None
    """the folder that the server runs on, if any"""
    tries: Tries = field(default_factory=Tries)

    @classmethod
    def open(
        cls, folder: Path, watch_under: Path, limits: Limits, site_folder: Path | None = None
    ) -> Services:
        store = Store(folder)
        queue = WorkQueue(folder)
        foreman = Foreman(store, queue)
        site = None
        if site_folder is not None:
            site = SiteFolder(store, site_folder, lambda: watcher.look_again())
        place = site.place if site else None
        watcher = Watcher(store, site_folder or watch_under, foreman.wake, place)
        outlooks = Outlooks(store, foreman.wake)

        def when_read(kind: str, _: str) -> None:
            if kind == TaskKind.READ:
                outlooks.wake()

        foreman.on_settled.append(when_read)
        return cls(
            store,
            queue,
            foreman,
            watcher,
            Courier(store, local=limits.local_webhooks),
            Housekeeper(store),
            outlooks,
            limits,
            site,
        )

    def check_room(self, more: int = 0) -> None:
        """Problem (507) if ``more`` bytes would leave too little free space."""
        if free_bytes(self.store.folder) - more < self.limits.keep_free:
            raise no_room()

    def start(self) -> None:
        if self.site is not None:
            self.site.start()  # before the watcher asks it for what is to be watched
        beside = (self.watcher, self.courier, self.housekeeper, self.outlooks)
        for thread in (self.foreman, *beside):
            thread.start()

    def close(self) -> None:
        self.outlooks.stop()
        self.housekeeper.stop()
        self.courier.stop()
        self.watcher.stop()
        if self.site is not None:
            self.site.stop()
        self.foreman.stop()
        self.queue.close()
        self.store.close()


def _services(request: Request) -> Services:
    return cast(Services, request.app.state.services)


ServicesOf = Annotated[Services, Depends(_services)]
