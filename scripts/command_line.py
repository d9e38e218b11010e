"""``make command-line``: ``docs/command-line.md``, from the commands themselves."""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from pathlib import Path

TARGET = Path(__file__).parents[1] / "docs" / "command-line.md"
INTRODUCTION = """# The command line

You want to look up a command or an option. `gefa COMMAND --help` says the same. This page is made
from the commands by `make command-line`.
"""
_CORES = re.compile(r"(\* `--(?:jobs|workers|processes) .*)\[default: \d+(?:; )?")


def page() -> str:
    """The page as the commands are now. How many cores a machine has is left out."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "commands.md"
        options = ("--name", "gefa", "--output", str(file))
        command = [sys.executable, "-m", "typer", "gefa.cli.app", "utils", "docs", *options]
        subprocess.run(command, check=True, capture_output=True)
        told = file.read_text("utf-8")
    told = _CORES.sub(r"\1[default: the cores of the machine; ", told)
    _, _, rest = told.partition("\n")
    return f"{INTRODUCTION}{rest}".rstrip() + "\n"


if __name__ == "__main__":
    TARGET.write_text(page(), "utf-8")
