"""``serve --site``: what a server may not do with the files of the folder."""

from __future__ import annotations

from gefa.web.problems import Problem
from gefa.web.services import Services


def keep_to_files(given: Services) -> None:
    """Problem (409) if sources are the files of a folder: then nothing is brought in, moved or
    removed on the screens."""
    if given.site is not None:
        raise Problem(
            409,
            "The sources are files of a folder",
            f"They are what {given.site.plan_file.path} names. Add, move or remove the files in"
            f" {given.site.folder} itself: this page follows.",
        )
