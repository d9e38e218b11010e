"""The festival's pages. They know Gefa through its HTTP API, and by the names of pictures."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

from fastapi import FastAPI, Form, HTTPException, Request, Response, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse
from fastapi.staticfiles import StaticFiles
from fastapi.templating import Jinja2Templates
from starlette.types import ASGIApp

from gefa.core.deliver.manifest import MANIFEST
from gefa.site import Pictures
from gefa_demo.site.gefa import Gefa, Refused, Showing
from gefa_demo.site.pictures import BASE, FOLDER
from gefa_demo.site.posts import PictureBlock, Placement, Post, Record, Report

HERE = Path(__file__).parent
CARD = Showing(
    "card",
    "(max-width: 599px) calc(100vw - 32px), (max-width: 999px) calc(50vw - 28px), 307px",
)
BANNER = Showing(
    "wide",
    "100vw",
    art=("tall; (max-width: 599px)", "middle; (max-width: 999px)"),
    lazy=False,
    placeholder="tiny",
)
LATER_BANNER = Showing(BANNER.crop, BANNER.sizes, BANNER.art)
IN_TEXT = {
    Placement.FULL: "(max-width: 751px) calc(100vw - 32px), 720px",
    Placement.CENTRED: "(max-width: 599px) calc(100vw - 32px),"
    " (max-width: 751px) calc(0.7 * (100vw - 32px)), 504px",
    Placement.LEFT: "(max-width: 599px) calc(100vw - 32px),"
    " (max-width: 751px) calc(0.45 * (100vw - 32px)), 324px",
}
IN_TEXT[Placement.RIGHT] = IN_TEXT[Placement.LEFT]
# Placeholders are style attributes; everything else comes from the site's own files.
POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; style-src-attr 'unsafe-inline';"
    " img-src 'self' data: blob:; connect-src 'self'; form-action 'self'; base-uri 'none';"
    " frame-ancestors 'none'"
)


def in_text(placed: Placement) -> Showing:
    """How a report shows a picture."""
    return Showing("whole", IN_TEXT[placed])


def festival(app: ASGIApp, folder: Path) -> FastAPI:
    """The site. ``app`` answers its API calls; ``folder`` holds its keys and its content."""
    site = FastAPI(docs_url=None, redoc_url=None, openapi_url=None)
    templates = Jinja2Templates(directory=HERE / "templates")
    record, gefa = Record(folder), Gefa(app, folder)
    images = folder / FOLDER
    if (images / MANIFEST).is_file():
        templates.env.add_extension(Pictures(images / MANIFEST, base=BASE).extension)
        site.mount("/img", StaticFiles(directory=images), name="img")
    else:  # one that was loaded before the designs had a place on it
        templates.env.globals["picture"] = lambda name: ""

    def page(request: Request, name: str, **context: Any) -> Response:
        headers = {"Content-Security-Policy": POLICY, "Cache-Control": "no-store"}
        return templates.TemplateResponse(request, name, context, headers=headers)

    @site.get("/")
    async def gallery(request: Request, problem: str = "") -> Response:
        shown, preparing = [], 0
        for post in record.read().posts:
            markup = await gefa.markup(post.upload, CARD)
            if markup is not None:
                shown.append({"post": post, "html": markup["html"]})
            elif await gefa.state(post.upload) in ("received", "processing", "held"):
                preparing += 1
        return page(
            request,
            "gallery.html",
            shown=shown,
            preparing=preparing,
            problem=problem,
            ready=bool(gefa.key("gallery")),
        )

    @site.post("/share")
    async def share(
        request: Request, photo: UploadFile, caption: Annotated[str, Form(max_length=300)] = ""
    ) -> Response:
        try:
            taken = await gefa.upload("gallery", photo.filename or "photo", photo.file, caption)
        except Refused as refused:
            target = request.url_for("gallery").include_query_params(problem=str(refused))
            return RedirectResponse(str(target), 303)
        record.add_post(Post(upload=taken["id"], caption=caption))
        return RedirectResponse(str(request.url_for("gallery")), 303)

    @site.get("/stalls")
    async def stalls(request: Request) -> Response:
        shown: list[dict[str, Any]] = []
        for stall in record.read().stalls:
            markup = await gefa.markup(stall.upload, LATER_BANNER if shown else BANNER)
            shown.append({"stall": stall, "html": markup["html"] if markup else ""})
            if markup and len(shown) == 1:
                shown[0]["preload"] = markup["preload"]
        return page(request, "stalls.html", shown=shown)

    @site.get("/reports")
    async def reports(request: Request) -> Response:
        return page(request, "reports.html", reports=record.read().reports)

    @site.post("/reports")
    async def begin(request: Request) -> Response:
        report = Report()
        record.keep_report(report)
        return RedirectResponse(str(request.url_for("edit", report_id=report.id)), 303)

    def found(report_id: str) -> Report:
        report = record.report(report_id)
        if report is None:
            raise HTTPException(404, "No such report.")
        return report

    async def blocks_of(report: Report) -> list[dict[str, Any]]:
        blocks = []
        for block in report.blocks:
            html = ""
            if isinstance(block, PictureBlock):
                markup = await gefa.markup(block.upload, in_text(block.placed))
                html = markup["html"] if markup else ""
            blocks.append({"block": block, "html": html})
        return blocks

    @site.get("/reports/{report_id}")
    async def report(request: Request, report_id: str) -> Response:
        one = found(report_id)
        return page(request, "report.html", report=one, blocks=await blocks_of(one))

    @site.get("/reports/{report_id}/edit")
    async def edit(request: Request, report_id: str) -> Response:
        one = found(report_id)
        blocks = await blocks_of(one)
        return page(request, "edit.html", report=one, blocks=blocks, places=list(Placement))

    @site.post("/reports/{report_id}/pictures")
    async def add_picture(report_id: str, picture: UploadFile) -> Response:
        """Upload a picture that was dropped into the text."""
        found(report_id)
        try:
            taken = await gefa.upload("reports", picture.filename or "photo", picture.file, "")
        except Refused as refused:
            return JSONResponse({"problem": str(refused)}, 422)
        markup = await gefa.markup(taken["id"], in_text(Placement.CENTRED))
        return JSONResponse({"upload": taken["id"], "html": markup["html"] if markup else ""})

    @site.post("/reports/{report_id}")
    async def save(report_id: str, changed: Report) -> Response:
        """Save the report; pictures that it no longer shows are removed."""
        before = found(report_id)
        report = changed.model_copy(update={"id": before.id})
        for block in report.blocks:
            if isinstance(block, PictureBlock):
                await gefa.say("reports", block.upload, block.alt)
        for upload in before.pictures - report.pictures:
            await gefa.remove("reports", upload)
        record.keep_report(report)
        return JSONResponse({"pictures": sorted(report.pictures)})

    site.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    return site
