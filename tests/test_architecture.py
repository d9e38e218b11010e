"""Imports go one way, as ARCHITECTURE.md says."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "gefa"

MAY_IMPORT = {
    "core/read": {"core"},
    "core/cut": {"core", "core/read", "core/treat", "core/plan"},
    "core/treat": {"core", "core/read"},
    "core/deliver": {"core", "core/cut", "core/treat"},
    "store": {
        "core",
        "core/read",
        "core/cut",
        "core/treat",
        "core/deliver",
        "core/plan",
        "core/export",
        "core/jobs",
    },
}
FOREIGN = {
    "core": {
        "fastapi",
        "starlette",
        "sqlmodel",
        "sqlalchemy",
        "huey",
        "uvicorn",
        "typer",
        "jinja2",
        "pebble",
    },
    "store": {"fastapi", "starlette", "huey", "uvicorn", "typer", "jinja2", "pyvips"},
    "web": {"pyvips", "numpy", "pebble"},
}


def modules(folder: str) -> list[Path]:
    return [p for p in (SOURCE / folder).rglob("*.py") if "migrations" not in p.parts]


def imports(path: Path) -> set[str]:
    found: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found.add(node.module)
    return found


def place(module: str) -> str:
    """``gefa.core.read.flat`` to ``core/read``; a module of core itself to ``core`` or its name."""
    parts = module.split(".")[1:]
    if parts[0] != "core":
        return parts[0]
    if len(parts) > 1 and (SOURCE / "core" / parts[1]).is_dir():
        return f"core/{parts[1]}"
    return f"core/{parts[1]}" if len(parts) > 1 and parts[1] in ("plan", "export") else "core"


@pytest.mark.parametrize("folder", sorted(MAY_IMPORT))
def test_a_folder_imports_only_what_comes_before_it(folder: str) -> None:
    for path in modules(folder):
        used = {place(name) for name in imports(path) if name.startswith("gefa.")}
        assert used <= MAY_IMPORT[folder] | {folder}, path


@pytest.mark.parametrize("folder", sorted(FOREIGN))
def test_a_folder_keeps_to_its_own_kind_of_library(folder: str) -> None:
    for path in modules(folder):
        used = {name.split(".")[0] for name in imports(path)}
        assert not used & FOREIGN[folder], path


def test_core_imports_nothing_of_gefa_but_itself() -> None:
    for path in modules("core"):
        assert {name.split(".")[1] for name in imports(path) if name.startswith("gefa.")} <= {
            "core"
        }, path


def test_modules_stay_small() -> None:
    sizes = {path: len(path.read_text("utf-8").splitlines()) for path in modules(".")}
    assert max(sizes.values()) < 500
