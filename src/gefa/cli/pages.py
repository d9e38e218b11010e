"""Commands about pages: what they send, and the markup of their pictures."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import contextmanager
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from gefa.cli.build import OutFolder, PlanFile, files_for, site_for, unpacking
from gefa.cli.console import FAILED, WRONG_USAGE, err_console, failing, out_console
from gefa.core.errors import PlanError

if TYPE_CHECKING:
    from collections.abc import Iterator

    from gefa.cli.build import Site
    from gefa.core.plan.plan import Plan
    from gefa.core.weigh.addresses import FindUpload
    from gefa.core.weigh.ladders import LadderAdvice
    from gefa.core.weigh.page_weight import PageWeight
    from gefa.core.weigh.report import Weighed
    from gefa.folder.ladder_trial import LadderTrial
    from gefa.folder.page_weights import Weighing

app = typer.Typer()


class WeighFormat(StrEnum):
    TEXT = "text"
    JSON = "json"
    JUNIT = "junit"
    MARKDOWN = "markdown"


Targets = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="[PAGE | FILE.html | FOLDER ...]",
        help="Pages of the plan by name, built pages, or folders of them; without any, all pages"
        " of the plan.",
        show_default=False,
    ),
]
AudienceName = Annotated[
    str,
    typer.Option(
        "--audience",
        help="An audience of the plan, or neutral; by default the plan's first.",
        show_default=False,
    ),
]
Format = Annotated[WeighFormat, typer.Option("--format", help="How the weights are printed.")]
Suggest = Annotated[
    bool, typer.Option("--suggest", help="Propose ladders that fit the audience better.")
]
Write = Annotated[bool, typer.Option("--write", help="Write the proposals into the plan file.")]
TooFew = Annotated[
    float,
    typer.Option(
        "--too-few",
        min=0,
        max=1,
        help="The share of visits that a proposal may send too few px, from 0 to 1.",
    ),
]
UploadsData = Annotated[
    Path | None,
    typer.Option(
        "--data",
        help="The data folder of the server whose uploads built pages show; by default .gefa in"
        " the site.",
        show_default=False,
    ),
]
PictureName = Annotated[
    str, typer.Argument(metavar="NAME", help="A picture of the plan, or a cut.")
]
Alt = Annotated[str | None, typer.Option(help="The alt text instead of the plan's.")]
Sizes = Annotated[str, typer.Option(help="The sizes attribute instead of the plan's.")]
Base = Annotated[str, typer.Option(help="A prefix for the path of each file, such as /img/.")]


class LoadingChoice(StrEnum):
    LAZY = "lazy"
    EAGER = "eager"


class FormChoice(StrEnum):
    HTML = "html"
    JINJA = "jinja"
    PRELOAD = "preload"
    CSS = "css"
    JSON = "json"


FormOption = Annotated[
    FormChoice,
    typer.Option(
        "--form", help="HTML, a Jinja macro, links that preload, CSS of a background, or data."
    ),
]
LoadingOption = Annotated[LoadingChoice | None, typer.Option(help="When the picture is loaded.")]
CssClass = Annotated[str, typer.Option("--class", help="The class of the <img>.")]


@app.command()
def weigh(
    pages: Targets = None,
    plan: PlanFile = None,
    out: OutFolder = None,
    audience: AudienceName = "",
    form: Format = WeighFormat.TEXT,
    suggest: Suggest = False,
    write: Write = False,
    too_few: TooFew = 0.0,
    data: UploadsData = None,
) -> None:
    """Weigh pages: the bytes of pictures that visitors load. Exits with 1 if a page is over its
    budget, or cannot be weighed."""
    from gefa.core.weigh.report import Weighed
    from gefa.folder.page_weights import uploads_folder
    from gefa.store.upload_addresses import uploads_in

    with failing(WRONG_USAGE):
        site = _site(plan, out)
        with uploads_in(data or uploads_folder(site.base if site.file else None)) as uploads:
            weighing = _weighing(site, audience, uploads)
            visits = form is WeighFormat.JSON
            found = Weighed(pages=_weighed(weighing, site, pages or [], visits=visits))
        found.faults = weighing.faults
        if suggest or write:
            found.ladders = _suggested(site, weighing, too_few, write=write)
    _print(found, form)
    raise typer.Exit(FAILED if found.failed else 0)


def _site(plan: Path | None, out: Path | None) -> Site:
    """The site; built pages can be weighed where there is none."""
    from gefa.cli.build import Site
    from gefa.core.plan.plan import Plan
    from gefa.folder.site_files import plan_above

    if plan is None and out is None and plan_above(Path()) is None:
        return Site(None, Plan(), Path("."))
    return site_for(plan, out)


def _weighing(site: Site, audience: str, uploads: FindUpload) -> Weighing:
    from gefa.core.deliver.manifest import Manifest
    from gefa.core.make.own_files import previous
    from gefa.folder.page_weights import Weighing, audience_called

    found = previous(site.out) if site.file else None
    if found is None and site.file:
        err_console.print(f"{site.out} has no manifest yet: run `gefa export` first", markup=False)
    manifest = found or Manifest(sources=[])
    return Weighing(
        site.plan,
        manifest,
        audience_called(site.plan, audience, site.base),
        site.base,
        site.out if site.file else None,
        uploads,
    )


def _weighed(
    weighing: Weighing, site: Site, targets: Sequence[str], *, visits: bool
) -> list[PageWeight]:
    from gefa.folder.page_weights import HTML, html_below

    if not targets:
        if not site.plan.pages:
            raise PlanError(
                "the plan has no pages.",
                advice="Name built pages or their folder, or write [[pages]] into gefa.toml.",
            )
        return weighing.pages(visits=visits)
    found = []
    for target in targets:
        path = Path(target)
        if path.is_dir():
            found += [weighing.html(file, path) for file in html_below(path)]
            weighing.tell_unused(path)
        elif path.suffix.lower() in HTML and path.is_file():
            found.append(_built(weighing, site, path))
        else:
            found += _of_plan(weighing, target)
    return found


def _built(weighing: Weighing, site: Site, path: Path) -> PageWeight:
    """A built page, with the plan's budget if the plan names the page."""
    for entry in site.plan.pages:
        if entry.html and site.base and (site.base / entry.html).resolve() == path.resolve():
            return weighing.page(entry)
    root = site.base if site.base and path.resolve().is_relative_to(site.base) else path.parent
    return weighing.html(path.resolve(), root.resolve(), path.as_posix())


def _of_plan(weighing: Weighing, name: str) -> list[PageWeight]:
    from difflib import get_close_matches

    from gefa.folder.page_weights import unknown_names

    if unknown_names(weighing.plan, [name]):
        known = [entry.called for entry in weighing.plan.pages]
        close = get_close_matches(name, known, n=1, cutoff=0.4)
        hint = f"The closest is {close[0]!r}." if close else "The plan has no pages."
        raise PlanError(f"there is no page, file or folder {name!r}.", advice=hint)
    return weighing.pages([name])


def _suggested(
    site: Site, weighing: Weighing, too_few: float, *, write: bool
) -> list[LadderAdvice]:
    """Better ladders, from encoded files; written into the plan on request."""
    from gefa.core.weigh.ladders import demands_of, ladders_of
    from gefa.folder.page_weights import natural_widths

    naturals = natural_widths(weighing.manifest)
    told = ladders_of(weighing.shown, weighing.audience, naturals, too_few=too_few)
    better = [one for one in told if one.is_better]
    shown = [picture for page in weighing.shown for picture in page.pictures]
    with _trial(site, weighing) as trial:
        able = [one for one in better if trial.can_have(one)]
        for one in better:
            if one not in able:
                err_console.print(
                    f"{one.name}: its widths are those of its recipe; change them there",
                    markup=False,
                )
        demands = demands_of(shown, weighing.audience, naturals)
        real = {one.name: one for one in trial.confirmed(able, demands)}
        kept = [one for one in able if real[one.name].is_better]
        if write and kept:
            _write(site, trial.with_ladders(kept))
            err_console.print(f"{site.file}: {len(kept)} ladders written", markup=False)
    return [real[one.name] for one in kept]


@contextmanager
def _trial(site: Site, weighing: Weighing) -> Iterator[LadderTrial]:
    from gefa.core.threads import cores
    from gefa.folder.ladder_trial import LadderTrial
    from gefa.work.pool import Pool

    if site.file is None:
        raise PlanError("there is no gefa.toml here or above.", advice="Run it in the site.")
    with Pool(cores()) as pool, unpacking() as place_for:
        files = files_for(site, [], place_for)
        yield LadderTrial(pool, site.plan, weighing.manifest, files, site.marks)


def _write(site: Site, plan: Plan) -> None:
    from gefa.core.files import write_whole
    from gefa.core.plan.plan_text import rewritten
    from gefa.core.plan.site_plan import say_the_same

    assert site.file is not None
    names = {entry.source for entry in plan.cuts if entry.source}
    text = site.file.read_text("utf-8")
    new = rewritten(text, plan, lambda one, other: say_the_same(one, other, names))
    write_whole(site.file, new.encode())


def _print(found: Weighed, form: WeighFormat) -> None:
    from gefa.core.weigh.report import as_junit, as_markdown, as_text

    if form is WeighFormat.JSON:
        typer.echo(found.model_dump_json(indent=2))
    elif form is WeighFormat.JUNIT:
        typer.echo(as_junit(found))
    elif form is WeighFormat.MARKDOWN:
        typer.echo("\n".join(as_markdown(found)))
    else:
        for line in as_text(found):
            out_console.print(line, markup=False, highlight=False, soft_wrap=True)


@app.command()
def markup(
    name: PictureName,
    plan: PlanFile = None,
    out: OutFolder = None,
    alt: Alt = None,
    sizes: Sizes = "",
    loading: LoadingOption = None,
    css_class: CssClass = "",
    base: Base = "",
    form: FormOption = FormChoice.HTML,
) -> None:
    """Print the HTML of a picture, or another form of its markup."""
    from gefa.core.deliver.named_pictures import MarkupForm, NamedPictures
    from gefa.core.make.own_files import previous

    with failing(WRONG_USAGE):
        site = site_for(plan, out)
        manifest = previous(site.out)
        if manifest is None:
            raise PlanError(f"{site.out} has no manifest.", advice="Run `gefa export` first.")
        named = NamedPictures(manifest, site.plan.pictures, base)
        if form is FormChoice.HTML:
            told = named.markup(
                name, alt=alt, sizes=sizes, loading=loading or "", css_class=css_class
            )
        else:
            told = named.form(name, MarkupForm(form.value), sizes=sizes)
        if alt is None and named.entry(name).alt is None:
            typer.echo(
                f"{name} has no alt text: pass --alt, or add it to its [[pictures]].", err=True
            )
    typer.echo(told)
