"""Commands that look at an out folder: check, clean."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from gefa.cli.build import (
    MOST_LISTED,
    Jobs,
    OutFolder,
    PlanFile,
    Sources,
    files_for,
    print_remarks,
    site_for,
    unpacking,
    whole_site,
)
from gefa.cli.console import FAILED, WRONG_USAGE, err_console, failing, out_console
from gefa.core.errors import PlanError
from gefa.core.threads import cores
from gefa.core.units import weight

if TYPE_CHECKING:
    from gefa.folder.check import Checked

app = typer.Typer()

Yes = Annotated[bool, typer.Option("--yes", help="Remove the files.")]


class CheckFormat(StrEnum):
    TEXT = "text"
    JSON = "json"
    JUNIT = "junit"


Format = Annotated[CheckFormat, typer.Option("--format", help="How findings are printed.")]


@app.command()
def check(
    sources: Sources = None,
    out: OutFolder = None,
    plan: PlanFile = None,
    jobs: Jobs = cores(),
    form: Format = CheckFormat.TEXT,
) -> None:
    """Check that the out folder is up to date, without encoding anything. Exits with 1 if a file is
    missing, stale, foreign or damaged, or if there is a warning that the plan treats as an error.
    """
    from gefa.folder.check import check as checked
    from gefa.work.pool import Pool

    with failing(WRONG_USAGE), Pool(jobs) as pool, unpacking() as place_for:
        site = site_for(plan, out)
        files = files_for(site, sources or [], place_for)
        found = checked(
            pool, files, site.plan, site.out, marks=site.marks, plan_file=whole_site(site, sources)
        )
    if form is CheckFormat.JSON:
        typer.echo(found.model_dump_json(indent=2))
    elif form is CheckFormat.JUNIT:
        typer.echo(found.to_junit())
    else:
        _print_checked(found)
    raise typer.Exit(FAILED if found.findings else 0)


@app.command()
def clean(
    out: OutFolder = None,
    plan: PlanFile = None,
    jobs: Jobs = cores(),
    yes: Yes = False,
) -> None:
    """List the files in the out folder that Gefa made and that the plan no longer makes; with --yes
    remove them."""
    from gefa.folder.clean import clear_away, left_over
    from gefa.work.pool import Pool

    with failing(WRONG_USAGE), Pool(jobs) as pool:
        site = site_for(plan, out)
        if site.file is None:
            raise PlanError(
                "there is no gefa.toml here or above.", advice="Name a plan with --plan."
            )
        files = files_for(site, [], Path)
        look = clear_away if yes else left_over
        left = look(pool, files, site.plan, site.out, marks=site.marks, plan_file=site.file)
    for file in left:
        edited = " (edited since it was made: it stays)" if file.edited else ""
        out_console.print(f"{file.path}  {weight(file.bytes)}{edited}", markup=False)
    gone = [file for file in left if not file.edited]
    size = weight(sum(file.bytes for file in gone))
    count = f"{len(gone):,} {'file' if len(gone) == 1 else 'files'}, {size}"
    if not gone:
        out_console.print("nothing to remove")
    elif yes:
        out_console.print(f"removed {count}")
    else:
        out_console.print(f"{count}: nothing makes them any more; --yes removes them")


def _print_checked(found: Checked) -> None:
    for one in found.findings[:MOST_LISTED]:
        place = [word for word in (one.source, one.path or one.cut) if word]
        err_console.print(f"{one.fault.value}: {': '.join([*place, one.reason])}", markup=False)
    if len(found.findings) > MOST_LISTED:
        err_console.print(f"and {len(found.findings) - MOST_LISTED:,} more")
    print_remarks("warning", found.warnings, several=found.sources > 1)
    count = len(found.findings)
    state = f"{count:,} {'finding' if count == 1 else 'findings'}" if count else "up to date"
    out_console.print(
        f"{state}: {found.sources:,} sources, {found.cuts:,} cuts, {found.files:,} files,"
        f" {weight(found.bytes)}"
    )
