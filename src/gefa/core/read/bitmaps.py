"""Unpacked bitmaps kept for a while, up to a number of bytes."""

from __future__ import annotations

from threading import Lock

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

Bitmap = NDArray[np.uint8]
"""rows × columns × (red, green, blue, alpha)"""


class BitmapCache:
    """Bitmaps by name, of ``limit`` bytes together; those not asked for longest go first. A larger
    one is kept alone. Safe between threads."""

    def __init__(self, limit: int) -> None:
        self._held: LRUCache[str, Bitmap] = LRUCache(
            limit, getsizeof=lambda image: min(image.nbytes, limit)
        )
        self._lock = Lock()

    def get(self, name: str) -> Bitmap | None:
        with self._lock:
            return self._held.get(name)

    def put(self, name: str, image: Bitmap) -> None:
        with self._lock:
            self._held[name] = image
