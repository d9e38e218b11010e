"""The command line."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table

from gefa.cli import care
from gefa.cli.console import (
    FAILED,
    WRONG_USAGE,
    DataFolder,
    err_console,
    failing,
    out_console,
    progress,
)
from gefa.core.errors import GefaError
from gefa.core.threads import cores
from gefa.core.units import weight
from gefa.logs import LogFormat, set_up

if TYPE_CHECKING:
    from rich.progress import Progress

    from gefa.core.deliver.manifest import Manifest
    from gefa.core.make.job import CutJob
    from gefa.core.plan.plan import Plan
    from gefa.core.read.survey import PartFacts, Survey
    from gefa.store.places import Places
    from gefa.work.batch import Exported, Exporter, ExportListener
    from gefa.work.pool import Pool

app = typer.Typer(
    help="Turns designs and pictures into the files a website serves.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
app.add_typer(care.app)

Sources = Annotated[
    list[Path],
    typer.Argument(metavar="SOURCE...", help="Designs and pictures.", show_default=False),
]
Source = Annotated[
    Path, typer.Argument(metavar="SOURCE", help="A design or picture.", show_default=False)
]
PlanFile = Annotated[Path | None, typer.Option("--plan", help="A plan file (TOML).")]
OutFolder = Annotated[Path, typer.Option("--out", help="The folder that gets the files.")]
Jobs = Annotated[
    int, typer.Option("--jobs", min=1, max=256, help="How many processes work at once.")
]
Force = Annotated[bool, typer.Option("--force", help="Make everything anew, reuse nothing.")]
Watch = Annotated[
    bool, typer.Option("--watch", help="Stay, and export again whenever a source is saved.")
]
LayoutToo = Annotated[
    bool, typer.Option("--layout", help="Also a page that lays the files out as in the design.")
]
PdfToo = Annotated[bool, typer.Option("--pdf", help="Also a PDF with a page for each cut.")]
Large = Annotated[
    bool, typer.Option("--large", help="Make files above 40 megapixels without asking.")
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Port = Annotated[int, typer.Option("--port", min=0, max=65535, envvar="PORT")]
Host = Annotated[str, typer.Option("--host", help="The address to listen on.")]
HostNames = Annotated[
    list[str] | None,
    typer.Option(
        "--host-name",
        help="A name that the server is known by, beside localhost; may be given several times.",
        envvar="GEFA_HOST_NAMES",
        show_default=False,
    ),
]
KeepFree = Annotated[
    int,
    typer.Option("--keep-free", min=0, help="MB of the disk that new files may not use."),
]
LocalWebhooks = Annotated[
    bool,
    typer.Option("--local-webhooks", help="Let webhooks lie inside this machine or network."),
]
Log = Annotated[LogFormat, typer.Option("--log", help="How the log is written.", envvar="GEFA_LOG")]
AccessLog = Annotated[bool, typer.Option("--access-log", help="Also log every request.")]
MetricsKey = Annotated[
    str,
    typer.Option(
        "--metrics-key",
        help="Opens /metrics to other machines.",
        envvar="GEFA_METRICS_KEY",
        show_default=False,
    ),
]
BeginAnew = Annotated[
    bool,
    typer.Option("--begin-anew", help="Start although the database does not know the pictures."),
]
TrustClock = Annotated[
    bool, typer.Option("--trust-clock", help="Start although the clock seems to have gone back.")
]
MaxSource = Annotated[
    int,
    typer.Option("--max-source", min=1, help="The largest file to bring in, MB."),
]
WatchUnder = Annotated[
    Path,
    typer.Option("--watch-under", help="Only folders inside this one may be watched for saves."),
]
Workers = Annotated[int, typer.Option("--workers", min=1, max=256, help="Worker processes.")]
OwnWorkers = Annotated[
    int,
    typer.Option("--workers", min=0, max=256, help="Worker processes; 0 leaves it to others."),
]
OwnServer = Annotated[
    int | None,
    typer.Option("--server", hidden=True, help="The process that started this one; ends with it."),
]
Where = Annotated[
    str,
    typer.Argument(metavar="[WHERE]", help="A folder, or s3://bucket/prefix.", show_default=False),
]
OnlySlots = Annotated[
    list[str] | None, typer.Option("--slot", help="Only this slot; may be given several times.")
]
Clear = Annotated[bool, typer.Option("--clear", help="Take away files that are not live any more.")]


@app.command()
def export(
    sources: Sources,
    out: OutFolder,
    plan: PlanFile = None,
    jobs: Jobs = cores(),
    force: Force = False,
    watch: Watch = False,
    layout: LayoutToo = False,
    pdf: PdfToo = False,
    large: Large = False,
) -> None:
    """Make the files of SOURCES in a folder, with a manifest and markup."""
    from gefa.work.pool import Pool

    def load() -> Plan:
        from gefa.core.plan.plan import Plan, load_plan

        return load_plan(plan) if plan else Plan()

    try:
        with progress() as bar, Pool(jobs) as pool:
            pool.start("gefa.core.make.make_cut")
            from gefa.work.batch import Exporter, Extras

            told = _told(bar, large, ask=not watch)
            extras = Extras(layout=layout, pdf=pdf)
            chosen = load()
            exporter = Exporter(
                pool,
                out,
                force=force,
                progress=told,
                extras=extras,
                marks=plan.parent if plan else None,
            )
            listed = exporter.unpacked(sources)
            if watch:
                bar.stop()
                _watch(exporter, pool, listed, plan, load)
                return
            manifest = exporter.export(listed, chosen).manifest
    except GefaError as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(WRONG_USAGE) from error
    _report(manifest, {source.name for source in listed})
    raise typer.Exit(FAILED if manifest.failed else 0)


def _told(bar: Progress, large: bool, *, ask: bool) -> ExportListener:
    from gefa.work.batch import ExportListener

    task = bar.add_task("reading", total=None)
    planned = 0

    def more(files: int) -> None:
        nonlocal planned
        planned += files
        bar.update(task, total=planned)

    def allow(jobs: list[CutJob]) -> bool:
        if large or not (ask and sys.stdin.isatty()):
            return large
        listed = ", ".join(f"{job.cut.name} ({job.megapixels:,.0f} megapixels)" for job in jobs)
        bar.stop()
        allowed = typer.confirm(f"{listed}: make them?")
        bar.start()
        return allowed

    return ExportListener(
        planned=more,
        made=lambda cut, files: bar.update(task, advance=files, description=cut),
        large=allow,
    )


def _watch(
    exporter: Exporter,
    pool: Pool,
    sources: list[Path],
    plan: Path | None,
    load: Callable[[], Plan],
) -> None:
    """Export after every save, until Ctrl-C."""
    from gefa.work.saves import Watched

    def report(exported: Exported, changed: list[Path], seconds: float) -> None:
        for name, changes in exported.changes.items():
            for word, paths in (
                ("added", changes.added),
                ("changed", changes.changed),
                ("moved", changes.moved),
                ("gone", changes.gone),
            ):
                if paths:
                    out_console.print(f"{name}: {word} {', '.join(paths)}", markup=False)
        _report(exported.manifest, {path.name for path in changed})
        out_console.print(f"in {seconds:.1f} s; waiting for the next save (Ctrl-C ends)")

    def trouble(error: GefaError) -> None:
        err_console.print(f"gefa: {error}", markup=False)

    # watchfiles ends its loop by itself on Ctrl-C.
    Watched(exporter, pool, load, report, trouble).run(sources, plan)


def _report(manifest: Manifest, sources: set[str]) -> None:
    ours = {cut.name for cut in manifest.cuts if cut.source.rpartition("/")[2] in sources}
    files = [file for file in manifest.files if file.cut in ours]
    reused = sum(file.reused for file in files)
    total = sum(file.bytes for file in files)
    out_console.print(
        f"{len(files) - reused} made, {reused} reused, {len(manifest.dropped)} dropped,"
        f" {len(manifest.failed)} failed: {len(files)} files, {weight(total)}"
    )
    for word, remarks in (
        ("failed", manifest.failed),
        ("warning", manifest.warnings),
        ("left out", manifest.left_out),
        ("dropped", manifest.dropped),
    ):
        for remark in remarks:
            place = [remark.source] if remark.source and len(sources) > 1 else []
            place += [remark.cut] if remark.cut not in place else []
            err_console.print(f"{word}: {': '.join(place)}: {remark.reason}", markup=False)


@app.command()
def parts(source: Source, as_json: AsJson = False) -> None:
    """List the parts a source can be asked for."""
    from gefa.core.read import read
    from gefa.core.read.survey import survey

    try:
        surveyed = survey(read(source))
    except GefaError as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(FAILED) from error
    if as_json:
        typer.echo(surveyed.model_dump_json(indent=2))
    else:
        out_console.print(_parts_table(surveyed))


def _parts_table(surveyed: Survey) -> Table:
    table = Table(box=None, pad_edge=False)
    for title in ("part", "kind", "tags", "place in px", ""):
        table.add_column(title)
    for part in surveyed.parts:
        table.add_row(*_part_row(part))
    return table


def _part_row(part: PartFacts) -> tuple[str, ...]:
    from rich.markup import escape

    place = part.problem or "nothing visible"
    if part.extent and not part.extent.empty:
        box = part.extent
        place = f"{box.width} × {box.height} at {box.x}, {box.y}"
    return (
        escape("  " * part.depth + (part.path if part.depth < 2 else part.display_name)),
        part.kind.value,
        " ".join(f"#{tag}" for tag in part.tags),
        escape(place),
        "" if part.visible else "hidden",
    )


@app.command()
def serve(
    data: DataFolder = Path("gefa-data"),
    host: Host = "127.0.0.1",
    port: Port = 8741,
    workers: OwnWorkers = cores(),
    watch_under: WatchUnder = Path(),
    host_name: HostNames = None,
    max_source: MaxSource = 4_000,
    keep_free: KeepFree = 500,
    local_webhooks: LocalWebhooks = False,
    log: Log = LogFormat.TEXT,
    access_log: AccessLog = False,
    metrics_key: MetricsKey = "",
    begin_anew: BeginAnew = False,
    trust_clock: TrustClock = False,
) -> None:
    """Serve the web application, with its workers."""
    from gefa.serve import free_port
    from gefa.serve import serve as run_server
    from gefa.store.folder import alone, check_folder
    from gefa.store.store import Store
    from gefa.web.app import create_app
    from gefa.web.limits import Limits
    from gefa.work.queue import QUEUE_FILE

    set_up(log, access=access_log)
    told = _places()
    folder = data.resolve()
    with failing(), alone(folder):
        check_folder(folder, None if told.queue else folder / QUEUE_FILE, trust_clock=trust_clock)
        # Opened once before anything listens: what is wrong with it is said in a sentence.
        Store(folder, begin_anew=begin_anew).close()
        chosen = free_port(host, port)
        if port and chosen != port:
            raise GefaError(f"port {port} is taken.", advice="Name another with --port.")
        out_console.print(f"Gefa is at http://{host}:{chosen}/")
        limits = Limits(
            source_bytes=max_source * 1_000_000,
            keep_free=keep_free * 1_000_000,
            local_webhooks=local_webhooks,
            metrics_key=metrics_key,
        )
        app = create_app(folder, watch_under, host_names=host_name or (), limits=limits)
        run_server(folder, app, host, chosen, workers)


@app.command()
def worker(
    data: DataFolder = Path("gefa-data"),
    workers: Workers = cores(),
    server: OwnServer = None,
    log: Log = LogFormat.TEXT,
) -> None:
    """Work for a server: take tasks from the queue of its data folder."""
    from gefa.work.worker import Worker

    set_up(log)
    _places()
    Worker(data.resolve(), workers, server).run()


@app.command()
def publish(
    where: Where = "",
    data: DataFolder = Path("gefa-data"),
    slot: OnlySlots = None,
    clear: Clear = False,
) -> None:
    """Write the live variants of a site as plain files with a manifest, for any host of files. By
    default to the bucket that keeps the blobs."""
    from gefa.store.store import Store
    from gefa.work.publish import BucketPlace, FolderPlace, Place, site_manifest
    from gefa.work.publish import publish as write

    told = _places()
    where = where or (told.blobs if told.blobs.startswith("s3://") else "")
    if not where or not (data / "gefa.sqlite3").exists():
        missing = f"there is no site in {data}" if where else "say where to: a folder, or a bucket"
        err_console.print(f"gefa: {missing}.", markup=False)
        raise typer.Exit(WRONG_USAGE)
    try:
        store = Store(data.resolve())
        with store.reading() as session:
            manifest = site_manifest(session, slot or ())
        place: Place = FolderPlace(Path(where), store.blobs)
        if where.startswith("s3://"):
            from gefa.store.bucket import Bucket

            place = BucketPlace(Bucket(where, told.s3_endpoint), store.blobs)
        done = write(manifest, place, clear=clear, slots=slot or ())
    except (GefaError, OSError) as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(FAILED) from error
    out_console.print(
        f"{done.written} written, {done.there} there already, {done.cleared} cleared:"
        f" {len(manifest.uploads)} uploads, {weight(done.bytes)}"
    )
    for path in done.lost:
        err_console.print(
            f"gefa: {path} is lost or damaged and was left out; `gefa verify --repair` makes"
            " again what can be.",
            markup=False,
        )
    if done.left:
        out_console.print(f"{done.left} files are not live any more; --clear takes them away")
    if done.lost:
        raise typer.Exit(FAILED)


@app.command()
def demo(
    data: DataFolder = Path("gefa-demo"),
    host: Host = "127.0.0.1",
    port: Port = 8741,
    workers: Workers = cores(),
) -> None:
    """Serve Gefa with a made-up kite festival to try it on."""
    from gefa.demo.site.app import festival
    from gefa.demo.world import SAMPLES, load_world, note_address
    from gefa.serve import free_port
    from gefa.serve import serve as run_server
    from gefa.store.folder import alone, check_folder
    from gefa.web.app import create_app
    from gefa.web.limits import Limits
    from gefa.work.queue import QUEUE_FILE

    set_up()
    folder = data.resolve()
    with failing(), alone(folder):
        check_folder(folder, folder / QUEUE_FILE)
        with out_console.status("Drawing the sample festival (the first time only)"):
            load_world(folder, workers)
        chosen = free_port(host, port)
        base_url = f"http://{host}:{chosen}"
        note_address(folder, base_url)
        out_console.print(f"Gefa is at            {base_url}/")
        out_console.print(f"The sample website at {base_url}/festival/")
        out_console.print(f"Pictures to upload in {folder / SAMPLES}", soft_wrap=True)
        out_console.print("Stop it with Ctrl-C.")
        run_server(
            folder,
            create_app(folder, limits=Limits(local_webhooks=True), sample=festival),
            host,
            chosen,
            workers,
        )


def _places() -> Places:
    """What the environment says of blobs and queue; ends the program where that cannot be."""
    from gefa.store.places import places

    try:
        return places()
    except GefaError as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(WRONG_USAGE) from error


if __name__ == "__main__":
    app()
