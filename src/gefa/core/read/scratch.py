"""Scratch space on disk: copies of large pictures that can be read in any order, and measurements
by content. All of it can be made again."""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import tempfile
import threading
import time
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

import numpy as np
import pyvips
from numpy.typing import NDArray

from gefa.core.geometry import Size

TILE = 512
"""px of a side"""
KEPT_SECONDS = 24 * 3600.0
"""a copy unused for a day is deleted: a batch that pauses overnight still finds its own"""


class Scratch:
    """Copies and measurements by key, in ``folder``.

    Without a folder, a temporary one is made for copies, and removed at the end. Several processes
    may share a folder: the first that needs a copy makes it, the others wait.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._own = tempfile.TemporaryDirectory(prefix="gefa-") if folder is None else None
        self.folder = folder or Path(self._own.name)  # type: ignore[union-attr]

    def tiled(self, key: str, image: pyvips.Image) -> pyvips.Image:
        """The picture as an uncompressed tiled TIFF on disk: only a few tiles are in memory."""
        self.folder.mkdir(parents=True, exist_ok=True)
        name = hashlib.sha256(key.encode()).hexdigest()[:32]
        target = self.folder / f"{name}.tif"
        with (self.folder / f"{name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not target.exists():
                _write_tiled(image, target)
        with suppress(OSError):
            os.utime(target)
        return pyvips.Image.tiffload(str(target))

    def frames(
        self, key: str, size: Size, frames: Iterable[NDArray[np.uint8]]
    ) -> list[pyvips.Image]:
        """Frames of RGBA, each of ``size`` px, from a file on disk: only those in use are in
        memory."""
        self.folder.mkdir(parents=True, exist_ok=True)
        name = hashlib.sha256(key.encode()).hexdigest()[:32]
        target = self.folder / f"{name}.raw"
        with (self.folder / f"{name}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not target.exists():
                _write_raw(frames, target)
        with suppress(OSError):
            os.utime(target)
        return _mapped(target, size)

    def measured(self, key: str) -> dict[str, Any] | None:
        """The measurement under ``key``, if it is still there."""
        try:
            found = json.loads(self._note(key).read_text("utf-8"))
        except (OSError, ValueError):
            return None
        return found if isinstance(found, dict) else None

    def note(self, key: str, facts: dict[str, Any]) -> None:
        """Keep a measurement (JSON values) for the next process that opens the same content."""
        if self._own is not None:
            return
        target = self._note(key)
        target.parent.mkdir(parents=True, exist_ok=True)
        draft = target.with_name(f"{target.stem}-{os.getpid()}-{threading.get_ident()}.part")
        draft.write_text(json.dumps(facts), "utf-8")
        os.replace(draft, target)

    def _note(self, key: str) -> Path:
        return self.folder / f"{hashlib.sha256(key.encode()).hexdigest()[:32]}.json"

    def drop_copies(self) -> None:
        """Remove the copies, which are large; measurements stay."""
        for ending in ("tif", "raw", "lock"):
            for file in self.folder.glob(f"*.{ending}"):
                file.unlink(missing_ok=True)


def _mapped(file: Path, size: Size) -> list[pyvips.Image]:
    """The frames in a file of RGBA bytes. They are mapped, not loaded: encoding processes block
    every loader of libvips that no source needs, the one for raw bytes too."""
    shape = (size.height, size.width, 4)
    bytes = size.height * size.width * 4
    starts = range(0, file.stat().st_size, bytes)
    maps = [np.memmap(file, np.uint8, mode="r", offset=start, shape=shape) for start in starts]
    return [
        pyvips.Image.new_from_memory(rows, size.width, size.height, 4, "uchar") for rows in maps
    ]


def _write_raw(frames: Iterable[NDArray[np.uint8]], target: Path) -> None:
    draft = target.with_name(f"{target.stem}-{os.getpid()}.part")
    try:
        with draft.open("wb") as file:
            for frame in frames:
                file.write(np.ascontiguousarray(frame).tobytes())
        os.replace(draft, target)
    finally:
        draft.unlink(missing_ok=True)


def _write_tiled(image: pyvips.Image, target: Path) -> None:
    draft = target.with_name(f"{target.stem}-{os.getpid()}.part")
    try:
        image.tiffsave(
            str(draft),
            tile=True,
            tile_width=TILE,
            tile_height=TILE,
            bigtiff=True,
            compression="none",
            keep="none",
        )
        os.replace(draft, target)
    finally:
        draft.unlink(missing_ok=True)


def sweep(folder: Path, older_than: float = KEPT_SECONDS) -> None:
    """Delete what nobody has used for ``older_than`` seconds."""
    if not folder.is_dir():
        return
    for file in folder.iterdir():
        with suppress(OSError):
            if time.time() - file.stat().st_mtime > older_than:
                file.unlink()
