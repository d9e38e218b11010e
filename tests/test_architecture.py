"""Modules stay small; which may import which is in ``pyproject.toml`` and checked by import-linter."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[1]


def test_modules_stay_small() -> None:
    modules = (ROOT / "src").rglob("*.py")
    sizes = {path: len(path.read_text("utf-8").splitlines()) for path in modules}
    assert max(sizes.values()) < 500, max(sizes, key=lambda path: sizes[path])


def test_imports_go_one_way() -> None:
    command = [str(Path(sys.executable).with_name("lint-imports")), "--no-cache"]
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
    assert done.returncode == 0, done.stdout


def test_each_package_tells_its_modules_in_reading_order() -> None:
    for init in (ROOT / "src").rglob("__init__.py"):
        modules = {path.stem for path in init.parent.glob("*.py")} - {"__init__", "__main__"}
        if init.parent.name in ("gefa", "core") or "migrations" in init.parts or not modules:
            continue
        told = re.findall(r"^- ``(\w+)``: ", init.read_text("utf-8"), re.MULTILINE)
        assert set(told) - {"svg"} == modules, init
        assert len(told) == len(set(told)), init
