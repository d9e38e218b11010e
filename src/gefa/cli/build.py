"""Commands that build a site's files: export, init."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import count
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gefa.cli.console import FAILED, WRONG_USAGE, err_console, failing, out_console, progress
from gefa.core.errors import GefaError, PlanError
from gefa.core.threads import cores
from gefa.core.units import weight

if TYPE_CHECKING:
    from rich.progress import Progress

    from gefa.core.cut.cut import Remark
    from gefa.core.deliver.manifest import Manifest
    from gefa.core.make.job import CutJob
    from gefa.core.plan.plan import Plan
    from gefa.folder.dry_run import Forecast
    from gefa.folder.export import Exported, Exporter, ExportListener
    from gefa.folder.site_files import SiteFile
    from gefa.work.pool import Pool

app = typer.Typer()

Sources = Annotated[
    list[Path] | None,
    typer.Argument(
        metavar="[SOURCE...]",
        help="Designs, pictures, zips and folders; without any, every source of the plan.",
        show_default=False,
    ),
]
PlanFile = Annotated[
    Path | None,
    typer.Option("--plan", help="A plan file; by default the nearest gefa.toml upwards."),
]
OutFolder = Annotated[
    Path | None,
    typer.Option("--out", help="The folder to write to; by default the plan's."),
]
Jobs = Annotated[
    int, typer.Option("--jobs", min=1, max=256, help="How many processes work at once.")
]
Force = Annotated[bool, typer.Option("--force", help="Make everything again and reuse nothing.")]
Watch = Annotated[
    bool, typer.Option("--watch", help="Keep running, and export again whenever a source is saved.")
]
Overwrite = Annotated[
    list[Path] | None,
    typer.Option(
        "--overwrite",
        metavar="PATH",
        help="A file in the out folder that Gefa did not make, and may replace. Repeat for more.",
    ),
]
DryRun = Annotated[
    bool,
    typer.Option("--dry-run", help="Say what would be made, reused and dropped."),
]
Weights = Annotated[
    bool, typer.Option("--weights", help="With --dry-run: also estimate the weight of the files.")
]
LayoutToo = Annotated[
    bool, typer.Option("--layout", help="Also a page that lays the files out as in the design.")
]
PdfToo = Annotated[bool, typer.Option("--pdf", help="Also a PDF with a page for each cut.")]
Large = Annotated[
    bool, typer.Option("--large", help="Make files above 40 megapixels without asking.")
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]


InitFolder = Annotated[Path, typer.Argument(metavar="[FOLDER]", help="The site's folder.")]
MOST_LISTED = 40
"""findings that are printed; the rest is only counted"""


@dataclass
class Site:
    """What an export builds: a plan, the folder it lies in, and the folder for the files."""

    file: Path | None
    plan: Plan
    out: Path

    @property
    def base(self) -> Path | None:
        return self.file.parent if self.file else None

    @property
    def marks(self) -> Path:
        return self.base or Path()

    def load(self) -> Plan:
        """Read the plan file again."""
        from gefa.core.plan.load import load_plan

        return load_plan(self.file) if self.file else self.plan


def site_for(plan_file: Path | None, out: Path | None) -> Site:
    """The site of the given plan file, or of the nearest one. PlanError if it names no folder for
    files, or one where none may be written."""
    from gefa.core.files import real
    from gefa.core.plan.load import load_plan
    from gefa.core.plan.plan import Plan
    from gefa.folder.site_files import out_folder, plan_above

    file = plan_file or plan_above(Path())
    plan = load_plan(file) if file else Plan()
    if out is None:
        if file is None or plan.out is None:
            raise PlanError(
                "there is no folder for the files.",
                advice='Name one with --out, or as out = "img" in a gefa.toml.',
            )
        out = out_folder(plan.out, file.parent)
    elif ".." in out.parts:
        out = real(out)  # what lies beyond a folder that is not there yet cannot be seen
    return Site(file, plan, out)


def whole_site(site: Site, sources: Sequence[Path] | None) -> Path | None:
    """The plan file, if its whole site is meant."""
    return None if sources else site.file


def files_for(
    site: Site, sources: Sequence[Path], place_for: Callable[[Path], Path]
) -> list[SiteFile]:
    """The sources named on the command line, or all sources of the site."""
    from gefa.core.files import real
    from gefa.core.make.own_files import OwnFiles
    from gefa.folder.site_files import (
        files_below,
        listed,
        named,
        refuse_unknown_sources,
        site_files,
    )

    if not sources:
        if site.base is None:
            raise PlanError(
                "there is no gefa.toml here or above.",
                advice="Name sources, or write one with `gefa init`.",
            )
        everything = site_files(site.plan, site.base, site.out)
        if site.file is not None:
            refuse_unknown_sources(site.plan, everything, site.file)
        return everything
    found: list[SiteFile] = []
    own = OwnFiles(site.out)
    for folder in (path for path in sources if path.is_dir()):
        without = [] if real(folder) == real(site.out) else [site.out]
        below = list(files_below(folder, without))
        if not below:
            raise PlanError("holds no picture and no design.", file=str(folder))
        found += named(below, site.base or folder)
    files = [path for path in sources if not path.is_dir()]
    for path in (path for path in files if own.holds(path)):
        err_console.print(f"left out: {path}: Gefa made this file", markup=False)
    found += listed([path for path in files if not own.holds(path)], site.base, place_for)
    return list({real(file.path): file for file in found}.values())


@app.command()
def export(
    sources: Sources = None,
    out: OutFolder = None,
    plan: PlanFile = None,
    jobs: Jobs = cores(),
    force: Force = False,
    watch: Watch = False,
    dry_run: DryRun = False,
    weights: Weights = False,
    layout: LayoutToo = False,
    pdf: PdfToo = False,
    large: Large = False,
    overwrite: Overwrite = None,
    as_json: AsJson = False,
) -> None:
    """Make the files of a site, or of SOURCES, in a folder, with a manifest and markup."""
    wishes = Wishes(jobs, force, watch, layout, pdf, large, overwrite or [])
    with failing(WRONG_USAGE):
        if weights and not dry_run:
            raise PlanError("--weights is for a dry run.", advice="Add --dry-run.")
        site = site_for(plan, out)
        if dry_run:
            told = _forecast(site, sources or [], jobs, weigh=weights)
            _print_forecast(told, as_json=as_json)
        files, manifest = _exported(site, sources or [], wishes)
    names = {file.name for file in files}
    if as_json:
        typer.echo(json.dumps(_summary(manifest, names), indent=2))
    else:
        _report(manifest, names)
    raise typer.Exit(FAILED if manifest.failed else 0)


@dataclass(frozen=True)
class Wishes:
    """The options of an export."""

    jobs: int
    force: bool
    watch: bool
    layout: bool
    pdf: bool
    large: bool
    overwrite: list[Path]


def _exported(
    site: Site, sources: Sequence[Path], wishes: Wishes
) -> tuple[list[SiteFile], Manifest]:
    """The sources, and what was made of them. Where nothing has changed since the last export, that
    is what it made: the libraries of databases and pixels are not even loaded."""
    from gefa.core.read.zips import is_pack
    from gefa.folder.unchanged import inputs_of, note, unchanged

    packs = any(path.is_file() and is_pack(path) for path in sources)
    if packs or wishes.force or wishes.watch or wishes.overwrite:
        return _made(site, sources, wishes)
    files = files_for(site, sources, Path)
    options = (wishes.layout, wishes.pdf, wishes.large, whole_site(site, sources))
    inputs = inputs_of(files, site.plan, site.marks, options)
    if (before := unchanged(site.out, inputs)) is not None:
        return files, before
    files, manifest = _made(site, sources, wishes, files)
    note(site.out, inputs, manifest)
    return files, manifest


def _made(
    site: Site, sources: Sequence[Path], wishes: Wishes, files: list[SiteFile] | None = None
) -> tuple[list[SiteFile], Manifest]:
    from gefa.folder.export import Exporter, Extras
    from gefa.work.pool import Pool

    with Pool(wishes.jobs) as pool, progress() as bar:
        exporter = Exporter(
            pool,
            site.out,
            force=wishes.force,
            progress=_told(bar, wishes.large, ask=not wishes.watch),
            extras=Extras(layout=wishes.layout, pdf=wishes.pdf),
            marks=site.marks,
            overwrite=_inside(site.out, wishes.overwrite),
        )
        files = files or files_for(site, sources, exporter.place_for)
        if wishes.watch:
            bar.stop()
            _watch(exporter, pool, files, site)
            raise typer.Exit
        return files, exporter.export(
            files, site.plan, plan_file=whole_site(site, sources)
        ).manifest


def _inside(out: Path, paths: Sequence[Path]) -> list[str]:
    """Paths within the out folder, named from here or from there. PlanError for any other."""
    found = []
    for path in paths:
        there = path if path.exists() else out / path
        try:
            found.append(there.absolute().relative_to(out.absolute()).as_posix())
        except ValueError:
            raise PlanError(f"is not inside {out}.", file=str(path)) from None
    return found


def _forecast(site: Site, sources: Sequence[Path], jobs: int, *, weigh: bool) -> Forecast:
    from gefa.folder.dry_run import DryRunListener, forecast
    from gefa.work.pool import Pool

    with Pool(jobs) as pool, progress() as bar, unpacking() as place_for:
        task = bar.add_task("reading", total=None)
        return forecast(
            pool,
            files_for(site, sources, place_for),
            site.plan,
            site.out,
            marks=site.marks,
            plan_file=whole_site(site, sources),
            weigh=weigh,
            progress=DryRunListener(
                read=lambda source: bar.update(task, description=f"reading {source}"),
                planned=lambda cuts: bar.update(task, total=cuts, description="weighing"),
                weighed=lambda cut: bar.update(task, advance=1, description=f"weighing {cut}"),
            ),
        )


@contextmanager
def unpacking() -> Iterator[Callable[[Path], Path]]:
    """Temporary places for the files of zips."""
    import tempfile

    with tempfile.TemporaryDirectory() as desk:
        numbers = count()
        yield lambda pack: Path(desk) / str(next(numbers))


def _print_forecast(told: Forecast, *, as_json: bool) -> None:
    if as_json:
        typer.echo(told.model_dump_json(indent=2))
    else:
        about = "about " if told.about else ""
        in_all = f": about {weight(told.expected)}" if told.expected is not None else ""
        out_console.print(
            f"{about}{told.made:,} to make, {told.reused:,} to reuse,"
            f" {len(told.dropped):,} to drop{in_all}"
        )
        for folder, size in sorted(told.folders.items()):
            out_console.print(f"  {folder}: about {weight(size)}", markup=False)
        for path in told.dropped[:MOST_LISTED]:
            err_console.print(f"to drop: {path}", markup=False)
        _remarks(told, several=True)
    raise typer.Exit(FAILED if told.failed else 0)


def _told(bar: Progress, large: bool, *, ask: bool) -> ExportListener:
    from gefa.folder.export import ExportListener

    task = bar.add_task("reading", total=None)

    def more(files: int) -> None:
        bar.update(task, total=files, completed=0, description="making")

    def allow(jobs: list[CutJob]) -> bool:
        if large or not (ask and sys.stdin.isatty()):
            return large
        listed = ", ".join(f"{job.cut.name} ({job.megapixels:,.0f} megapixels)" for job in jobs)
        bar.stop()
        allowed = typer.confirm(f"{listed}: make them?")
        bar.start()
        return allowed

    return ExportListener(
        read=lambda source: bar.update(task, description=f"reading {source}"),
        planned=more,
        made=lambda cut, files: bar.update(task, advance=files, description=cut),
        large=allow,
    )


def _watch(exporter: Exporter, pool: Pool, sources: list[SiteFile], site: Site) -> None:
    """Export after every save, until Ctrl-C."""
    from gefa.folder.saves import Watched

    def report(exported: Exported, changed: list[SiteFile], seconds: float) -> None:
        for name, changes in exported.changes.items():
            for word, paths in (
                ("added", changes.added),
                ("changed", changes.changed),
                ("moved", changes.moved),
                ("gone", changes.gone),
            ):
                if paths:
                    out_console.print(f"{name}: {word} {', '.join(paths)}", markup=False)
        _report(exported.manifest, {file.name for file in changed})
        out_console.print(f"in {seconds:.1f} s; waiting for the next save (Ctrl-C ends)")

    def trouble(error: GefaError) -> None:
        err_console.print(f"gefa: {error}", markup=False)

    # watchfiles ends its loop by itself on Ctrl-C.
    Watched(exporter, pool, site.load, report, trouble).run(sources, site.file)


def _summary(manifest: Manifest, sources: set[str]) -> dict[str, Any]:
    """Print the numbers of an export: in all, by folder and by format."""
    files = [file for file in manifest.files if file.source in sources]
    folders: dict[str, dict[str, int]] = {}
    formats: dict[str, dict[str, int]] = {}
    for file in files:
        folder = file.path.rpartition("/")[0] or "."
        for grouped, key in ((folders, folder), (formats, file.format.value)):
            sums = grouped.setdefault(key, {"files": 0, "bytes": 0})
            sums["files"] += 1
            sums["bytes"] += file.bytes
    reused = sum(file.reused for file in files)
    return {
        "sources": len(sources),
        "made": len(files) - reused,
        "reused": reused,
        "dropped": [remark.model_dump() for remark in manifest.dropped],
        "failed": [remark.model_dump() for remark in manifest.failed],
        "warnings": [remark.model_dump() for remark in manifest.warnings],
        "left_out": [remark.model_dump() for remark in manifest.left_out],
        "files": len(files),
        "bytes": sum(file.bytes for file in files),
        "folders": folders,
        "formats": formats,
    }


def _report(manifest: Manifest, sources: set[str]) -> None:
    told = _summary(manifest, sources)
    out_console.print(
        f"{told['made']} made, {told['reused']} reused, {len(manifest.dropped)} dropped,"
        f" {len(manifest.failed)} failed: {told['files']} files, {weight(told['bytes'])}"
    )
    if len(sources) > 1:
        for grouped in (told["folders"], told["formats"]):
            listed = (
                f"{name}: {sums['files']:,} files, {weight(sums['bytes'])}"
                for name, sums in sorted(grouped.items())
            )
            out_console.print(f"  {'; '.join(listed)}", markup=False, soft_wrap=True)
    _remarks(manifest, several=len(sources) > 1)


def _remarks(told: Manifest | Forecast, *, several: bool) -> None:
    kinds = [("failed", told.failed), ("warning", told.warnings), ("left out", told.left_out)]
    dropped = getattr(told, "dropped", [])
    if dropped and not isinstance(dropped[0], str):
        kinds.append(("dropped", dropped))
    for word, remarks in kinds:
        print_remarks(word, remarks, several=several)


def print_remarks(word: str, remarks: Sequence[Remark], *, several: bool) -> None:
    """Print remarks, of other kinds than failures only the first: a run over hundreds of pictures
    has thousands."""
    most = len(remarks) if word == "failed" else MOST_LISTED
    for remark in remarks[:most]:
        place = [remark.source] if remark.source and several else []
        place += [remark.cut] if remark.cut not in place else []
        err_console.print(f"{word}: {': '.join(place)}: {remark.reason}", markup=False)
    if len(remarks) > most:
        err_console.print(f"{word}: {len(remarks) - most:,} more; --json lists all")


@app.command()
def init(folder: InitFolder = Path()) -> None:
    """Look at a folder, and write a gefa.toml to match."""
    from gefa.folder.starter import write_starter

    with failing(WRONG_USAGE):
        file, told = write_starter(folder)
    out_console.print(f"{file}: {told}. Read it, then run `gefa export`.", markup=False)
