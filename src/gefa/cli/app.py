"""The command line."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Table

from gefa.cli import build, care, checks, pages, people, servers
from gefa.cli.console import (
    FAILED,
    WRONG_USAGE,
    DataFolder,
    err_console,
    out_console,
    stored_places,
)
from gefa.core.errors import GefaError
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.core.read.survey import PartFacts, Survey

app = typer.Typer(
    help="Turns designs and pictures into the files a website serves.",
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
)
app.add_typer(build.app)
app.add_typer(checks.app)
app.add_typer(pages.app)
app.add_typer(servers.app)
app.add_typer(care.app)
app.add_typer(people.app, name="people")

Source = Annotated[
    Path, typer.Argument(metavar="SOURCE", help="A design or picture.", show_default=False)
]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Where = Annotated[
    str,
    typer.Argument(metavar="[WHERE]", help="A folder, or s3://bucket/prefix.", show_default=False),
]
OnlySlots = Annotated[
    list[str] | None, typer.Option("--slot", help="Only this slot; repeat for several.")
]
Clear = Annotated[bool, typer.Option("--clear", help="Remove files that are no longer live.")]


@app.command()
def parts(source: Source, as_json: AsJson = False) -> None:
    """List the parts of a source that can be cut."""
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
def publish(
    where: Where = "",
    data: DataFolder = Path("gefa-data"),
    slot: OnlySlots = None,
    clear: Clear = False,
) -> None:
    """Publish the live variants of a site as plain files with a manifest, for any static host.
    Without WHERE, they go to the bucket that holds the blobs."""
    from gefa.store.store import Store
    from gefa.work.publish import BucketPlace, FolderPlace, Place, site_manifest
    from gefa.work.publish import publish as write

    told = stored_places()
    where = where or (told.blobs if told.blobs.startswith("s3://") else "")
    if not where or not (data / "gefa.sqlite3").exists():
        missing = (
            f"there is no site in {data}" if where else "name a folder or a bucket to publish to"
        )
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
    for path in done.taken:
        err_console.print(f"gefa: {path} exists, and Gefa did not write it. Move it", markup=False)
    for path in done.lost:
        err_console.print(
            f"gefa: {path} is lost or damaged and was left out; `gefa verify --repair` makes"
            " again what can be.",
            markup=False,
        )
    if done.left:
        out_console.print(f"{done.left} files are no longer live; --clear removes them")
    if done.lost or done.taken:
        raise typer.Exit(FAILED)


if __name__ == "__main__":
    app()
