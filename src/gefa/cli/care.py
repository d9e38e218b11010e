"""Commands that take care of a data folder: backups, checks, clearing away."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.progress import Progress

from gefa.cli.console import FAILED, DataFolder, err_console, failing, out_console, progress
from gefa.core.errors import GefaError
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.store.references import Reference
    from gefa.store.store import Store

app = typer.Typer()

BackupPlace = Annotated[
    str,
    typer.Argument(metavar="TARGET", help="A folder, or s3://bucket/prefix.", show_default=False),
]
Generation = Annotated[
    str,
    typer.Option(
        "--generation", help="The generation to restore; the newest by default.", show_default=False
    ),
]
ListThem = Annotated[bool, typer.Option("--list", help="Only list the generations.")]
Replace = Annotated[
    bool, typer.Option("--replace", help="Move the database that is there aside first.")
]
Repair = Annotated[
    bool, typer.Option("--repair", help="Make lost and damaged files again where that is possible.")
]
Anyway = Annotated[
    bool, typer.Option("--anyway", help="Sweep even if that is more than a tenth of all files.")
]
MOST_LISTED = 20
"""lost files that are printed; the rest is only counted"""


def _bar(shown: Progress, what: str) -> Callable[[int, int], None]:
    task = shown.add_task(what, total=None)
    return lambda done, of: shown.update(task, completed=done, total=of)


@app.command()
def backup(target: BackupPlace, data: DataFolder = Path("gefa-data")) -> None:
    """Back up a data folder, even while a server uses it. Copies only what TARGET lacks, and thins
    out old generations."""
    from gefa.store.backup import back_up, target_at

    with failing(), progress() as shown:
        done = back_up(data.resolve(), target_at(target), _bar(shown, "Copying"))
    out_console.print(
        f"{done.generation}: {done.blobs:,} files, {done.copied:,} of them new"
        f" ({weight(done.bytes)})"
        + (f"; {done.thinned} old generations thinned" if done.thinned else "")
    )
    _fail_for(done.lost, "and not in the backup. `gefa verify` lists them.")


def _fail_for(lost: list[str], more: str) -> None:
    """Exit with 1 if files were lost."""
    if lost:
        err_console.print(f"gefa: {len(lost)} files are lost or damaged {more}", markup=False)
        raise typer.Exit(FAILED)


@app.command()
def restore(
    target: BackupPlace,
    data: DataFolder = Path("gefa-data"),
    generation: Generation = "",
    replace: Replace = False,
    listed: ListThem = False,
) -> None:
    """Restore a data folder from a backup. Stop the server first."""
    from gefa.store.backup import generations, target_at
    from gefa.store.backup import restore as bring_back

    with failing(), progress() as shown:
        place = target_at(target)
        if listed:
            for name in generations(place):
                out_console.print(name)
            return
        done = bring_back(
            data.resolve(), place, generation, replace=replace, tell=_bar(shown, "Fetching")
        )
    out_console.print(
        f"{done.generation}: {done.blobs:,} files, {done.fetched:,} of them fetched."
        + (f" The database that was there is in {done.aside}." if done.aside else ""),
        soft_wrap=True,
    )
    _fail_for(done.lost, "in the backup, too. `gefa verify --repair` makes again what can be.")


@app.command()
def verify(data: DataFolder = Path("gefa-data"), repair: Repair = False) -> None:
    """Read every file of a data folder, and compare it with its hash."""
    from gefa.work.verify import verify as check

    with failing(), progress() as shown:
        store = _store(data)
        done = check(store, repair=repair, tell=_bar(shown, "Reading"))
    out_console.print(
        f"{done.blobs:,} files, {weight(done.bytes)}: {len(done.lost)} lost,"
        f" {len(done.damaged)} damaged"
    )
    if repair:
        _list("made again", done.mended)
        _list("made again as soon as a server runs", done.asked)
        _list("beyond repair; put the originals back, or restore a backup", done.beyond)
    else:
        _list("lost", done.lost)
        _list("damaged", done.damaged)
    if done.beyond or (done.broken and not repair):
        raise typer.Exit(FAILED)


def _list(title: str, found: list[Reference]) -> None:
    if not found:
        return
    out_console.print(f"{len(found)} {title}:", markup=False)
    for reference in found[:MOST_LISTED]:
        out_console.print(f"  {reference.role}: {reference.what}", markup=False, soft_wrap=True)
    if len(found) > MOST_LISTED:
        out_console.print(f"  and {len(found) - MOST_LISTED} more")


@app.command()
def sweep(data: DataFolder = Path("gefa-data"), anyway: Anyway = False) -> None:
    """Move files that nothing needs into the trash, where they stay for 7 days. A server does that
    once a day."""
    from gefa.store.sweep import TRASH_SECONDS, backed_up, sweep_blobs

    with failing():
        store = _store(data)
        with store.reading() as session:
            done = sweep_blobs(session, store.blobs, kept=backed_up(store.folder), anyway=anyway)
        store.blobs.sweep_trash(TRASH_SECONDS)
    if done.told:
        err_console.print(f"gefa: {done.told}", markup=False)
        raise typer.Exit(FAILED)
    out_console.print(f"{done.taken:,} of {done.blobs:,} files moved to the trash")


def _store(data: Path) -> Store:
    from gefa.store.database import DATABASE
    from gefa.store.store import Store

    if not (data / DATABASE).exists():
        raise GefaError(f"there is no site in {data}.", advice="Name its folder with --data.")
    return Store(data.resolve())
