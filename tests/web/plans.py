"""The site's plan over HTTP, for tests that are about one source of it."""

from __future__ import annotations

import httpx

from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from gefa.core.plan.site_plan import Pieces, composed, divided


def site_plan(pages: httpx.Client) -> Plan:
    return parse_plan(pages.get("/plan/gefa.toml").text, "gefa.toml")


def plan_for(pages: httpx.Client, name: str) -> Plan:
    """What goes for the source of that name."""
    return site_plan(pages).for_source(name)


def give_plan(pages: httpx.Client, name: str, text: str) -> httpx.Response:
    """Let a source have what ``text`` says, and the site its recipes; all else stays."""
    own = parse_plan(text, "gefa.toml")
    whole = site_plan(pages)
    pieces = divided(whole, {name})
    recipes = {**pieces.recipes, **own.recipes}
    mine = {**pieces.own, name: own.model_copy(update={"recipes": {}})}
    changed = composed(Pieces(pieces.shared, mine, recipes))
    return pages.post("/plan", data={"text": changed.to_toml()})
