"""The words that people read: one name for one thing, in plain English."""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
import typer

from gefa.cli.app import app as command_line
from gefa.web.app import create_app

SOURCES = Path(__file__).parents[1] / "src"
WEB = SOURCES / "gefa" / "web"
TEMPLATES = WEB / "templates"
NOT = {
    "alternative text": "alt text",
    "have it back": "restore",
    "had back": "restored",
    "take it back": "use the default",
    "take back": "use the default",
    "takes them back": "undo",
    "what suits": "automatic",
    "said of": "alt text and tags",
    "tells nobody": "webhook: none",
    "goes live at once": "review: not needed",
    "live at once": "review: not needed",
    "as a rectangle": "mask: none",
    "files lie": "folder",
    "by itself": "automatically, or what does it",
    "of their own": "own",
    "is like that": "matches",
    "is called so": "matches",
    "fits this": "matches",
    "take one in": "import",
    "take in": "import, or upload",
    "once more": "again",
    "no more": "no longer",
    "nobody has": "no … yet",
    "shut out": "refused",
    "what comes out of it": "the thing's name",
    "asset": "file or picture",
    "thumbnail": "preview",
    "media query": "media condition",
    "layer group": "group",
    "rendition": "variant",
    "preset": "recipe",
}
"""what not to say, in small letters, and what to say instead"""


def words_of(template: str) -> str:
    """What a template shows, without its markup and its code."""
    text = re.sub(r"\{#.*?#\}|\{%.*?%\}", " ", template, flags=re.S)
    text = re.sub(r"\{\{.*?\}\}", "…", text, flags=re.S)
    shown = re.findall(r'(?:aria-label|title|placeholder|alt)="([^"]*)"', text)
    return " ".join([re.sub(r"<[^>]+>", " ", text), *shown])


def sentences_of(module: Path) -> Iterator[str]:
    """Texts of a module that people may read: what has a space in it and is no docstring."""
    tree = ast.parse(module.read_text("utf-8"))
    told = [node.value for node in ast.walk(tree) if isinstance(node, ast.Expr)]
    texts = (node for node in ast.walk(tree) if isinstance(node, ast.Constant) and node not in told)
    for text in texts:
        if isinstance(text.value, str) and " " in text.value:
            yield f"{text.value}."


def help_of(command: typer.models.CommandInfo | object) -> Iterator[str]:
    yield getattr(command, "help", "") or ""
    for one in getattr(command, "params", ()):
        yield getattr(one, "help", "") or ""
    for one in getattr(command, "commands", {}).values():
        yield from help_of(one)


def texts() -> dict[str, str]:
    found = {
        str(path.relative_to(TEMPLATES)): words_of(path.read_text("utf-8"))
        for path in TEMPLATES.rglob("*.html")
    }
    for path in SOURCES.rglob("*.py"):
        if "migrations" not in path.parts:
            found[str(path.relative_to(SOURCES))] = " ".join(sentences_of(path))
    for script in (WEB / "static" / "js").glob("*.js"):
        found[script.name] = ". ".join(
            re.findall(r"[\"`]([^\"`\n]* [^\"`\n]*)[\"`]", script.read_text("utf-8"))
        )
    found["command line"] = " ".join(help_of(typer.main.get_command(command_line)))
    api = create_app(Path("unused")).openapi()
    for path, methods in api["paths"].items():
        for method, told in methods.items():
            words = [told.get("summary", ""), told.get("description", "")]
            words += [one.get("description", "") for one in told.get("parameters", ())]
            found[f"{method} {path}"] = " ".join(words)
    return found


TEXTS = texts()


@pytest.mark.parametrize("wrong", NOT)
def test_no_text_says_what_is_not_to_be_said(wrong: str) -> None:
    found = [
        place
        for place, text in TEXTS.items()
        if re.search(rf"\b{re.escape(wrong)}s?\b", " ".join(text.lower().split()))
    ]
    assert not found, f"{wrong!r}: say {NOT[wrong]!r}"


def test_every_command_says_what_it_does() -> None:
    told = subprocess.run(
        [sys.executable, "-m", "gefa", "--help"], capture_output=True, text=True, check=True
    ).stdout
    for name in ("export", "check", "weigh", "markup", "init", "serve", "people"):
        assert re.search(rf"{name}\s+\S", told)
