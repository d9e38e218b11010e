"""The festival's pages. They know Gefa only through its HTTP API and one slot's key."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import httpx
from fastapi import FastAPI, Form, Request, Response, UploadFile
from fastapi.responses import RedirectResponse
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from starlette.types import ASGIApp

from gefa.demo.site.posts import Post, Posts

HERE = Path(__file__).parent
SLOT = "gallery"
WAIT_SECONDS = 25
SIZES = "(max-width: 700px) 100vw, 620px"


def festival(gefa: ASGIApp, folder: Path) -> FastAPI:
    """The site. ``gefa`` answers its API calls; ``folder`` holds its key and its posts."""
    site = FastAPI(docs_url=None, redoc_url=None, openapi_url=None)
    templates = Jinja2Templates(directory=HERE / "templates")
    posts = Posts(folder)

    def api() -> httpx.AsyncClient:
        return httpx.AsyncClient(
            transport=httpx.ASGITransport(app=gefa),
            base_url="http://gefa.invalid/api/v1",
            headers={"Authorization": f"Bearer {_key(folder)}"},
            timeout=WAIT_SECONDS + 10,
        )

    @site.get("/")
    async def gallery(request: Request, problem: str = "") -> Response:
        shown, preparing = [], 0
        async with api() as client:
            for post in posts.all():
                answer = await client.get(f"/uploads/{post.upload}", params={"sizes": SIZES})
                state = answer.json().get("state") if answer.is_success else "gone"
                if state == "live":
                    shown.append({"post": post, "picture": answer.json()})
                elif state in ("received", "processing"):
                    preparing += 1
        context: dict[str, Any] = {
            "shown": shown, "preparing": preparing, "problem": problem, "ready": bool(_key(folder)),
        }  # fmt: skip
        return templates.TemplateResponse(request, "gallery.html", context)

    @site.post("/share")
    async def share(
        request: Request, photo: UploadFile, caption: Annotated[str, Form(max_length=300)] = ""
    ) -> Response:
        async with api() as client:
            answer = await client.post(
                f"/slots/{SLOT}/uploads",
                files={"file": (photo.filename or "photo", photo.file)},
                data={"alt": caption},
                headers={"Prefer": f"wait={WAIT_SECONDS}"},
            )
        if not answer.is_success:
            target = request.url_for("gallery").include_query_params(
                problem=answer.json().get("detail", "The picture could not be taken.")
            )
            return RedirectResponse(str(target), 303)
        posts.add(Post(upload=answer.json()["id"], caption=caption))
        return RedirectResponse(str(request.url_for("gallery")), 303)

    site.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    return site


def _key(folder: Path) -> str:
    try:
        slots = json.loads((folder / "demo.json").read_text("utf-8"))["slots"]
        return next(str(slot["key"]) for slot in slots if slot["name"] == SLOT)
    except (OSError, ValueError, KeyError, StopIteration, TypeError):
        return ""
