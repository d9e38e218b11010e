"""What visitors shared: the site's own record, in a file."""

from __future__ import annotations

from pathlib import Path

from pydantic import BaseModel, TypeAdapter, ValidationError

from gefa.core.deliver.shelf import write_whole


class Post(BaseModel):
    """A picture on the site: the upload's id and the words below it."""

    upload: str
    caption: str


_LIST = TypeAdapter(list[Post])


class Posts:
    """Newest first."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / "festival.json"

    def all(self) -> list[Post]:
        try:
            return _LIST.validate_json(self._file.read_bytes())
        except (OSError, ValidationError):
            return []

    def add(self, post: Post) -> None:
        write_whole(self._file, _LIST.dump_json([post, *self.all()], indent=1))
