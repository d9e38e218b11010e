"""The API's description as OpenAPI, and what holds for all its routes."""

from __future__ import annotations

from difflib import get_close_matches
from typing import Any

from fastapi import FastAPI, Request

from gefa.web.problems import Problem


def described(app: FastAPI) -> dict[str, Any]:
    """The description, with where the API is and how requests show their key."""
    found = {**app.openapi(), "servers": [{"url": "/"}], "security": [{"key": []}, {}]}
    schemes = {
        "key": {"type": "http", "scheme": "bearer", "description": "A key of a slot or site."}
    }
    found["components"] = {**found.get("components", {}), "securitySchemes": schemes}
    return found


def refuse_unknown_query(request: Request) -> None:
    """Problem for a word in the query that the route does not know: a misspelt filter would
    otherwise give everything."""
    if not request.query_params:
        return
    # The description is worked out once, and names what FastAPI itself reads.
    path = getattr(request.scope.get("route"), "path_format", "")
    route = request.app.openapi()["paths"].get(path, {}).get(request.method.lower())
    if route is None:
        return
    known = [told["name"] for told in route.get("parameters", ()) if told["in"] == "query"]
    for word in request.query_params:
        if word not in known:
            close = get_close_matches(word, known, n=1, cutoff=0.5)
            hint = f" Did you mean {close[0]!r}?" if close else ""
            raise Problem(
                422, "Unknown query parameter", f"There is no parameter {word[:40]!r}.{hint}"
            )
