"""Reads the fields of a form as numbers, sizes, lists and choices."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Request
from starlette.datastructures import FormData

from gefa.core.errors import PlanError

MAX_FIELDS = 20_000
"""someone may tick all parts of a design with thousands"""


async def _form(request: Request) -> FormData:
    return await request.form(max_fields=MAX_FIELDS)


FormOf = Annotated[FormData, Depends(_form)]


def whole_number(text: str) -> int | None:
    """A whole number of at most three digits; None for any other text."""
    return int(text) if text.isdecimal() and len(text) <= 3 else None


def _finite(text: str) -> float | None:
    try:
        value = float(text)
    except ValueError:
        return None
    return value if abs(value) < 1e12 else None


@dataclass(frozen=True)
class Fields:
    """A form; PlanError names the field that cannot be read. A missing field takes ``usual``, if
    given."""

    form: FormData

    def has(self, field: str) -> bool:
        return field in self.form

    def text(self, field: str) -> str:
        """Stripped of spaces; empty if missing."""
        value = self.form.get(field, "")
        return value.strip() if isinstance(value, str) else ""

    def texts(self, field: str) -> list[str]:
        return [value for value in self.form.getlist(field) if isinstance(value, str)]

    def on(self, field: str = "on") -> bool:
        return self.text(field) in ("true", "on", "yes", "1")

    def number(self, field: str, what: str, usual: float | None = None) -> float:
        """A number, or the number of a percentage."""
        if not self.has(field) and usual is not None:
            return usual
        text = self.text(field).replace(",", ".").removesuffix("%").strip()
        found = _finite(text)
        if found is None:
            raise PlanError(f"{what} is {text[:40]!r}.", advice="Give a number.")
        return found

    def whole(self, field: str, what: str, usual: int | None = None) -> int:
        return round(self.number(field, what, usual))

    def maybe(self, field: str, what: str) -> float | None:
        """A number; None if empty."""
        return self.number(field, what) if self.text(field) else None

    def numbers(self, field: str, what: str, usual: list[float]) -> list[float]:
        """Numbers separated by commas, spaces or ``and``, with or without px or x."""
        if not self.has(field):
            return usual
        found = []
        for text in re.split(r"[\s;]+|,\s*", self.text(field).replace(" and ", " ")):
            plain = re.sub(r"(px|x)$", "", text)
            if not plain:
                continue
            value = _finite(plain)
            if value is None:
                raise PlanError(f"{what}: {text[:40]!r} is no number.")
            found.append(value)
        return found
