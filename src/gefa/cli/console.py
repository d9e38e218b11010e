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
from gefa.core.files import lacks_room

if TYPE_CHECKING:
    from gefa.store.places import Places

out_console = Console(highlight=False)
err_console = Console(stderr=True, highlight=False, soft_wrap=True)

FAILED = 1
WRONG_USAGE = 2

DataFolder = Annotated[Path, typer.Option("--data", help="The folder that keeps everything.")]


def fail(error: Exception, code: int = FAILED) -> NoReturn:
    """Print what is wrong, and exit."""
    err_console.print(f"gefa: {_in_words(error)}", markup=False)
    raise typer.Exit(code) from error


def _in_words(error: Exception) -> str:
    """What is wrong, without the numbers that the system has for it."""
    if not isinstance(error, OSError):
        return str(error)
    place = f"{error.filename}: " if error.filename else ""
    if lacks_room(error):
        return f"{place}the disk is full. Free some room, then run it again."
    return f"{place}{error.strerror or error}."


@contextmanager
def failing(code: int = FAILED) -> Iterator[None]:
    """Print known errors as one sentence, and exit."""
    try:
        yield
    except (GefaError, OSError) as error:
        fail(error, code)


def progress() -> Progress:
    """A progress bar on the error stream."""
    return Progress(
        TextColumn("{task.description}", markup=False),
        BarColumn(),
        MofNCompleteColumn(),
        TimeRemainingColumn(),
        console=err_console,
        transient=True,
    )


def stored_places() -> Places:
    """Where the environment puts blobs and queue; exits if the setting is wrong."""
    from gefa.store.places import places

    try:
        return places()
    except GefaError as error:
        err_console.print(f"gefa: {error}", markup=False)
        raise typer.Exit(WRONG_USAGE) from error
