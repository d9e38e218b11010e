"""``make plan-reference``: ``docs/plan-reference.md``, from the models of the plan file."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from gefa.core.plan.plan import Plan

TARGET = Path(__file__).parents[1] / "docs" / "plan-reference.md"
INTRODUCTION = """# Every key of the plan file

You want to look up what a key of `gefa.toml` may be. [The plan file](plan-file.md) shows how the
keys work together. This page is made from the models that read plans, by `make plan-reference`.
"""
TABLES = (
    ("sources", "SourcesEntry", "[[sources]]"),
    ("recipes", "Recipe", "[recipes.NAME]"),
    ("rules", "Rule", "[[rules]]"),
    ("cuts", "CutEntry", "[[cuts]]"),
    ("slices", "SliceEntry", "[[slices]]"),
    ("originals", "OriginalsEntry", "[[originals]]"),
    ("pictures", "PictureEntry", "[[pictures]]"),
    ("pages", "PageEntry", "[[pages]]"),
    ("audiences", "AudienceEntry", "[[audiences]]"),
    ("check", "CheckTable", "[check]"),
)
"""keys of the whole plan, the models behind them, and how each is written"""
BOUNDS = {
    "minimum": "≥ {}", "exclusiveMinimum": "> {}", "maximum": "≤ {}", "exclusiveMaximum": "< {}",
    "minLength": "at least {} long", "maxLength": "at most {} long",
    "minItems": "at least {}", "maxItems": "at most {}",
}  # fmt: skip


def page() -> str:
    """The page as the models are now."""
    schema = Plan.model_json_schema()
    models = schema["$defs"]
    written = dict.fromkeys(model for _, model, _ in TABLES)
    parts = [INTRODUCTION, "## The plan as a whole\n", *_rows(schema, written)]
    for _, model, how in TABLES:
        parts += [f"## `{how}`\n", *_section(models[model], written)]
    inner = [name for name, one in models.items() if "properties" in one and name not in written]
    parts += ["## Tables within\n"]
    for name in inner:
        parts += [f"### {name}\n", *_section(models[name], written)]
    return "\n".join(parts).rstrip() + "\n"


def _section(model: dict[str, Any], written: dict[str, None]) -> Iterator[str]:
    yield re.sub(r"\s*\n(?!\n)\s*", " ", model.get("description", "")).replace("``", "`") + "\n"
    yield from _rows(model, written)


def _rows(model: dict[str, Any], written: dict[str, None]) -> Iterator[str]:
    yield "| key | value | default |\n|---|---|---|"
    needed = model.get("required", ())
    for key, told in model["properties"].items():
        default = "needed" if key in needed else _default(told)
        yield f"| `{key}` | {_value(told)} | {default} |"
    yield ""


def _default(told: dict[str, Any]) -> str:
    default = told.get("default")
    if default in (None, "", [], {}):
        return ""
    return f"`{json.dumps(default, ensure_ascii=False)}`"


def _value(told: dict[str, Any]) -> str:
    """What a key may be, in words."""
    if "$ref" in told:
        return _named(told["$ref"])
    if "anyOf" in told:
        return " or ".join(_value(one) for one in told["anyOf"] if one.get("type") != "null")
    if "const" in told:
        return f'`"{told["const"]}"`'
    if "enum" in told:
        return ", ".join(f'`"{word}"`' for word in told["enum"])
    bounds = [words.format(f"{told[key]:,}") for key, words in BOUNDS.items() if key in told]
    limits = f" ({', '.join(bounds)})" if bounds else ""
    kind = told.get("type", "")
    if kind == "array":
        items = told.get("items") or {}
        return f"list of {_value(items)}{limits}" if items else f"list{limits}"
    if kind == "object":
        inside = told.get("additionalProperties")
        return f"table of {_value(inside)}" if isinstance(inside, dict) else "table"
    words = {"string": "text", "integer": "whole number", "boolean": "`true` or `false`"}
    return f"{words.get(kind, kind)}{limits}"


def _named(reference: str) -> str:
    """An enumeration by its words, a model by a link to its section."""
    name = reference.rpartition("/")[2]
    model = Plan.model_json_schema()["$defs"][name]
    if "enum" in model:
        return _value(model)
    how = next((how for _, known, how in TABLES if known == name), name)
    anchor = re.sub(r"[^\w-]", "", how.lower())
    return f"[{name if how == name else f'`{how}`'}](#{anchor})"


if __name__ == "__main__":
    TARGET.write_text(page(), "utf-8")
