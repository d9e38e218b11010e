"""The web application: pages, API and delivery over one data folder."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Collection
from contextlib import asynccontextmanager
from pathlib import Path

from fastapi import FastAPI
from fastapi.responses import FileResponse
from fastapi.staticfiles import StaticFiles
from starlette.types import ASGIApp

from gefa import __version__
from gefa.core.read.scratch import sweep
from gefa.web import problems
from gefa.web.api import decisions, markup, resumable, uploads
from gefa.web.bodies import Bodies
from gefa.web.delivery import Delivery
from gefa.web.limits import Limits
from gefa.web.metrics import Metrics
from gefa.web.pages import cut, health, proof, recipes, runs, slots, sources
from gefa.web.pages import uploads as feed
from gefa.web.security import Guard, HostCheck
from gefa.web.services import Services
from gefa.web.templating import STATIC
from gefa.web.watch import Watch
from gefa.work.tasks import SCRATCH

SAMPLE = "/festival"


SamplePages = Callable[[ASGIApp, Path], ASGIApp]
"""makes a sample website, from the application that it uses and the data folder"""


def create_app(
    folder: Path,
    watch_under: Path | None = None,
    *,
    host_names: Collection[str] = (),
    limits: Limits | None = None,
    sample: SamplePages | None = None,
) -> FastAPI:
    """The application over the data in ``folder``. Its workers are started by others.

    Only folders under ``watch_under`` (by default the one it is started in) may be watched.
    ``host_names`` are names that it is known by beside ``localhost``. A ``sample`` website that
    uses it is served under SAMPLE.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        services = Services.open(folder, watch_under or Path.cwd(), limits or Limits())
        services.store.blobs.sweep()
        sweep(folder / SCRATCH)
        app.state.services = services
        services.foreman.on_settled = app.state.metrics.job_done
        services.start()
        yield
        services.close()

    app = FastAPI(
        title="Gefa",
        version=__version__,
        summary="Turns designs and pictures into the files a website serves.",
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
    )
    app.add_middleware(Bodies)
    app.add_middleware(Guard)
    app.add_middleware(Delivery)
    app.add_middleware(HostCheck, names=frozenset(host_names))
    app.state.metrics = Metrics()
    app.add_middleware(Watch, metrics=app.state.metrics)
    problems.add_handlers(app)
    for screen in (sources, cut, recipes, proof, runs, slots, feed, health):
        app.include_router(screen.router, include_in_schema=False)
    app.include_router(uploads.router)
    app.include_router(decisions.router)
    app.include_router(resumable.router)
    app.include_router(markup.router)

    @app.get("/favicon.ico", include_in_schema=False)
    def icon() -> FileResponse:
        """For pages that name no icon: layouts, and what browsers ask for by themselves."""
        return FileResponse(STATIC / "icon.svg", media_type="image/svg+xml")

    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    app.state.sample = SAMPLE if sample is not None else ""
    if sample is not None:
        app.mount(SAMPLE, sample(app, folder))
    return app
