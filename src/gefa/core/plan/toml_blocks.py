"""How plans are written as TOML: a table for each entry, and its values in a line each."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import tomlkit
from tomlkit.items import Item

LISTS = ("sources", "rules", "cuts", "slices", "originals", "pictures", "pages", "audiences")
"""the lists of tables in a plan, in this order"""


def value(given: object) -> Item:
    """A value in one line of TOML."""
    if isinstance(given, dict):
        inline = tomlkit.inline_table()
        for key, one in given.items():
            inline[key] = value(one)
        return inline
    if isinstance(given, list):
        array = tomlkit.array()
        for one in given:
            array.append(value(one))
        return array
    return tomlkit.item(given)


def table(header: str, fields: Mapping[str, Any]) -> str:
    """A table under its header, such as ``[[rules]]``; without a header if that is empty."""
    document = tomlkit.document()
    for key, given in fields.items():
        document[key] = value(given)
    return f"{header}\n{document.as_string()}" if header else document.as_string()


def recipe(name: str, fields: Mapping[str, Any]) -> str:
    """A recipe as a table."""
    return table(f"[recipes.{tomlkit.key(name).as_string()}]", fields)


def plan(fields: Mapping[str, Any]) -> str:
    """A whole plan, from its fields as in JSON."""
    above = {k: v for k, v in fields.items() if k not in (*LISTS, "recipes", "check")}
    tables = [table("", above)] if above else []
    tables += [recipe(name, one) for name, one in fields.get("recipes", {}).items()]
    for kind in LISTS:
        tables += [table(f"[[{kind}]]", entry) for entry in fields.get(kind, ())]
    if "check" in fields:
        tables.append(table("[check]", fields["check"]))
    return "\n".join(tables)
