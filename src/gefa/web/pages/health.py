"""Health of the server: for programs that watch it, and as a page."""

from __future__ import annotations

from hmac import compare_digest
from ipaddress import ip_address
from typing import Annotated, Any

from fastapi import Header, Request, Response
from fastapi.responses import JSONResponse, PlainTextResponse

from gefa.store.roles import Permission
from gefa.web.bodies import bearer_in
from gefa.web.health import health_of
from gefa.web.metrics import TEXT, Metrics
from gefa.web.problems import Problem
from gefa.web.services import ServicesOf
from gefa.web.templating import page
from gefa.web.visitors import guarded_router, needs, public

router = guarded_router()


@router.get("/healthz")
@public
def healthz() -> Response:
    """The server answers."""
    return PlainTextResponse("ok\n", headers={"Cache-Control": "no-store"})


@router.get("/readyz")
@public
def readyz(given: ServicesOf) -> Response:
    """Everything the server needs works; 503 names what does not."""
    found = health_of(given)
    told: dict[str, Any] = {
        "ready": found.ready,
        "checks": {check.name.lower(): {"ok": check.ok} for check in found.checks},
    }
    return JSONResponse(told, 200 if found.ready else 503, {"Cache-Control": "no-store"})


@router.get("/metrics")
@public
def metrics(
    request: Request, given: ServicesOf, authorization: Annotated[str, Header()] = ""
) -> Response:
    """Figures in Prometheus' format, for this machine, or for the key in GEFA_METRICS_KEY."""
    if not (_is_here(request) or _has_key(given.limits.metrics_key, authorization)):
        raise Problem(
            403,
            "Not for everybody",
            "Ask from this machine, or with the key in GEFA_METRICS_KEY as a bearer token.",
        )
    kept: Metrics = request.app.state.metrics
    return Response(kept.text(health_of(given)), media_type=TEXT)


def _is_here(request: Request) -> bool:
    """Whether the request comes from this machine, and was not forwarded."""
    if {"forwarded", "x-forwarded-for", "via"} & set(request.headers.keys()):
        return False
    try:
        return request.client is not None and ip_address(request.client.host).is_loopback
    except ValueError:
        return False


def _has_key(key: str, authorization: str) -> bool:
    return bool(key) and compare_digest(bearer_in(authorization).encode(), key.encode())


@router.get("/health")
@needs(Permission.OWN)
def show(request: Request, given: ServicesOf) -> Response:
    """The state of the server, in words."""
    return page(request, "health.html", health=health_of(given))
