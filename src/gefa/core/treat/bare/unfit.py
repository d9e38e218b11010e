"""The error for files that cannot be stripped."""

from __future__ import annotations


class Unfit(Exception):
    """The file has a structure that is not supported here, or hides something in its picture."""
