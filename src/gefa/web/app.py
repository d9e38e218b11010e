"""The web application: pages, API and delivery over one data folder."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Collection
from contextlib import asynccontextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from fastapi import Depends, FastAPI
from fastapi.responses import FileResponse, JSONResponse
from fastapi.staticfiles import StaticFiles
from starlette.types import ASGIApp

from gefa import __version__
from gefa.core.read.scratch import sweep
from gefa.web import problems
from gefa.web.api import decisions, markup, resumable, uploads
from gefa.web.api import pages as site_pages
from gefa.web.api import plan as site_plan
from gefa.web.api import runs as site_runs
from gefa.web.api import sources as site_sources
from gefa.web.api.description import described, refuse_unknown_query
from gefa.web.bodies import Bodies
from gefa.web.delivery import Delivery
from gefa.web.limits import Limits
from gefa.web.metrics import Metrics
from gefa.web.pages import (
    account,
    cut,
    desk,
    health,
    keys,
    people,
    plan,
    proof,
    recipes,
    run_downloads,
    runs,
    sign_in,
    slots,
    sources,
    watched,
    weight,
)
from gefa.web.pages import uploads as feed
from gefa.web.security import Guard, HostCheck
from gefa.web.services import Services
from gefa.web.templating import STATIC
from gefa.web.visitors import GuardedRoute, public, who_asks
from gefa.web.watch import Watch
from gefa.work.tasks import SCRATCH

if TYPE_CHECKING:
    from gefa.web.sign_in_service import SignInService

SAMPLE = "/festival"


SamplePages = Callable[[ASGIApp, Path], ASGIApp]
"""makes a sample website from the application it uses and the data folder"""


def create_app(
    folder: Path,
    watch_under: Path | None = None,
    *,
    host_names: Collection[str] = (),
    limits: Limits | None = None,
    exposed: bool = False,
    sign_in_service: SignInService | None = None,
    sample: SamplePages | None = None,
    site: Path | None = None,
) -> FastAPI:
    """The application over the data in ``folder``. Its workers are started separately.

    Only folders under ``watch_under`` (by default the current folder) can be watched.
    ``host_names`` are further names of this server besides ``localhost``. An ``exposed`` server can
    be reached from other machines, and requires signing in. People may sign in with an account of a
    ``sign_in_service``. A ``sample`` website is served under SAMPLE. With a ``site`` the sources
    are files of that folder, and runs write into it.
    """

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        services = Services.open(folder, watch_under or Path.cwd(), limits or Limits(), site)
        services.store.blobs.sweep()
        sweep(folder / SCRATCH)
        app.state.services = services
        services.foreman.on_settled.append(app.state.metrics.job_done)
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
        openapi_url=None,
    )
    app.router.route_class = GuardedRoute
    app.state.exposed = exposed
    app.state.site = site
    app.state.who_asks = who_asks
    app.state.sign_in_service = sign_in_service
    if sign_in_service is not None:
        # Loaded only where it is used: its libraries take a third of a second.
        from gefa.web.sign_in_service import AccountState

        app.add_middleware(AccountState)
    app.add_middleware(Bodies)
    app.add_middleware(Guard)
    app.add_middleware(Delivery)
    app.add_middleware(HostCheck, names=frozenset(host_names))
    app.state.metrics = Metrics()
    app.add_middleware(Watch, metrics=app.state.metrics)
    problems.add_handlers(app)
    for screen in (
        sources,
        desk,
        plan,
        cut,
        recipes,
        proof,
        runs,
        run_downloads,
        slots,
        feed,
        health,
        sign_in,
        account,
        people,
        keys,
        watched,
        weight,
    ):
        app.include_router(screen.router, include_in_schema=False)

    for part in (
        uploads,
        decisions,
        resumable,
        markup,
        site_sources,
        site_plan,
        site_runs,
        site_pages,
    ):
        app.include_router(part.router, dependencies=[Depends(refuse_unknown_query)])

    @app.get("/api/v1/openapi.json", include_in_schema=False)
    @public
    def openapi() -> JSONResponse:
        """The API's description, as OpenAPI."""
        return JSONResponse(described(app))

    @app.get("/favicon.ico", include_in_schema=False)
    @public
    def icon() -> FileResponse:
        """For pages that name no icon: layouts, and requests that browsers make by themselves."""
        return FileResponse(STATIC / "icon.svg", media_type="image/svg+xml")

    app.mount("/static", StaticFiles(directory=STATIC), name="static")
    app.state.sample = SAMPLE if sample is not None else ""
    if sample is not None:
        app.mount(SAMPLE, sample(app, folder))
    return app
