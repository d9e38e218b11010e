"""What out folders of versions up to 0.1.0 of 28 November 2026 keep in JSON files."""

from __future__ import annotations

import json
import shutil
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from gefa.core.treat.made import CutFacts, MadeVariant


@dataclass
class OlderMemory:
    """As in ``OutMemory``: files by path, with key and time; the rest by key or source."""

    made: dict[str, MadeVariant] = field(default_factory=dict)
    facts: dict[str, CutFacts] = field(default_factory=dict)
    placed: dict[str, tuple[str, int]] = field(default_factory=dict)
    wanted: dict[str, list[str]] = field(default_factory=dict)


def older_memory(folder: Path) -> OlderMemory:
    """What the files in ``.gefa`` say; nothing if there are none, or they cannot be read. Sources
    are read again: that is quick, and nothing is made for it."""
    found = OlderMemory()
    memory = _read(folder / "memory.json")
    try:
        found.made = {k: MadeVariant.model_validate(v) for k, v in memory.get("made", {}).items()}
        found.facts = {k: CutFacts.model_validate(v) for k, v in memory.get("facts", {}).items()}
        for key, place in memory.get("places", {}).items():
            found.placed[str(place["path"])] = key, int(place.get("saved", 0))
        wanted = _read(folder / "wanted.json")
        found.wanted = {name: [str(path) for path in paths] for name, paths in wanted.items()}
    except (ValueError, TypeError, KeyError, AttributeError):
        return OlderMemory()
    return found


def remove_older_memory(folder: Path) -> None:
    """Delete the files: what they say is in tables now."""
    for name in ("memory.json", "wanted.json"):
        (folder / name).unlink(missing_ok=True)
    shutil.rmtree(folder / "surveys", ignore_errors=True)


def _read(file: Path) -> dict[str, Any]:
    try:
        found = json.loads(file.read_bytes())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}
