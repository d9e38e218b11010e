"""What all commands share: where they print, and how they end."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, NoReturn

import typer
from rich.console import Console
from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

from gefa.core.errors import GefaError

if TYPE_CHECKING:
    from gefa.store.places import Places

out_console = Console(highlight=False)
err_console = Console(stderr=True, highlight=False, soft_wrap=True)

FAILED = 1
WRONG_USAGE = 2

DataFolder = Annotated[Path, typer.Option("--data", help="The folder that keeps everything.")]


def fail(error: Exception, code: int = FAILED) -> NoReturn:
    """Say what is wrong, and end the program."""
    err_console.print(f"gefa: {error}", markup=False)
    raise typer.Exit(code) from error


@contextmanager
def failing(code: int = FAILED) -> Iterator[None]:
    """End the program with a sentence where something cannot be done."""
    try:
        yield
    except (GefaError, OSError) as error:
        fail(error, code)


def progress() -> Progress:
    """A bar on the error stream."""
    return Progress(
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
        console=err_console,
        transient=True,
    )


def stored_places() -> Places:
    """What the environment says of blobs and queue; ends the program where that cannot be."""
    from gefa.store.places import places

    try:
        return places()
    except GefaError as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(WRONG_USAGE) from error
