"""File names that are safe in every file system and every URL."""

from __future__ import annotations

import re
from collections.abc import Mapping

from anyascii import anyascii

MAX_SEGMENT = 80
"""characters of one path segment, before the extension"""

_RESERVED = re.compile(r"con|prn|aux|nul|com[0-9]|lpt[0-9]", re.I)


def safe(text: str) -> str:
    """``text`` in ASCII letters, digits, ``-`` and ``_``: transliterated, never empty.

    Reserved device names of Windows get a suffix (Naming Files, Paths, and Namespaces).
    """
    plain = re.sub(r"[^A-Za-z0-9_]+", "-", anyascii(text[: 4 * MAX_SEGMENT]))
    plain = plain[:MAX_SEGMENT].strip("-_")
    if not plain:
        return "cut"
    return f"{plain}-cut" if _RESERVED.fullmatch(plain) else plain


def safe_folder(folder: str) -> str:
    """``folder`` with each of its levels safe; empty for the top one."""
    return "/".join(safe(level) for level in folder.split("/") if level)


def file_path(template: str, fields: Mapping[str, str], suffix: str = "") -> str:
    """Fill in the template and make each segment safe; ``/`` starts a folder. ``suffix`` follows
    the name."""
    filled = template.format(**fields)
    folders, _, last = filled.replace("\\", "/").rpartition("/")
    stem, extension = _split_extension(last, fields["ext"])
    parts = [safe(folder) for folder in folders.split("/") if folder.strip(". ")]
    name = f"{safe(stem)}-{suffix}" if suffix else safe(stem)
    return "/".join([*parts, f"{name}.{extension}"])


def _split_extension(name: str, extension: str) -> tuple[str, str]:
    suffix = f".{extension}"
    return (name[: -len(suffix)] if name.endswith(suffix) else name), extension
