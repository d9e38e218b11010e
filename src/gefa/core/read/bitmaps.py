"""Unpacked bitmaps kept for a while, up to a number of bytes."""

from __future__ import annotations

from collections import OrderedDict
from threading import Lock

import numpy as np
from numpy.typing import NDArray

Bitmap = NDArray[np.uint8]
"""rows × columns × (red, green, blue, alpha)"""


class BitmapCache:
    """Bitmaps by name; those not asked for longest go first. Safe between threads."""

    def __init__(self, limit: int) -> None:
        self._limit = limit
        self._held: OrderedDict[str, Bitmap] = OrderedDict()
        self._bytes = 0
        self._lock = Lock()

    def get(self, name: str) -> Bitmap | None:
        with self._lock:
            image = self._held.get(name)
            if image is not None:
                self._held.move_to_end(name)
            return image

    def put(self, name: str, image: Bitmap) -> None:
        with self._lock:
            if name in self._held:
                return
            self._held[name] = image
            self._bytes += image.nbytes
            while self._bytes > self._limit and len(self._held) > 1:
                _, oldest = self._held.popitem(last=False)
                self._bytes -= oldest.nbytes
