"""The festival's way to Gefa: its HTTP API, with a key for each slot."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import httpx
from starlette.types import ASGIApp

WAIT_SECONDS = 25


class Refused(Exception):
    """Gefa refused something; the message says why."""


@dataclass(frozen=True)
class Showing:
    """How a place on the site shows pictures: a crop, its ``sizes``, crops for media conditions,
    lazy or not."""

    crop: str
    sizes: str
    art: tuple[str, ...] = ()
    lazy: bool = True
    placeholder: str = "colour"

    @property
    def query(self) -> dict[str, Any]:
        return {
            "crop": self.crop,
            "sizes": self.sizes,
            "art": list(self.art),
            "lazy": self.lazy,
            "placeholder": self.placeholder,
        }


class Gefa:
    """``app`` answers its API calls; ``folder`` holds its keys."""

    def __init__(self, app: ASGIApp, folder: Path) -> None:
        self._app = app
        self._folder = folder

    def key(self, slot: str) -> str:
        """Empty where the site has none."""
        try:
            slots = json.loads((self._folder / "demo.json").read_text("utf-8"))["slots"]
            return next(str(one["key"]) for one in slots if one["name"] == slot)
        except (OSError, ValueError, KeyError, StopIteration, TypeError):
            return ""

    def _client(self, slot: str = "") -> httpx.AsyncClient:
        headers = {"Authorization": f"Bearer {self.key(slot)}"} if slot else {}
        return httpx.AsyncClient(
            transport=httpx.ASGITransport(app=self._app),
            base_url="http://localhost/api/v1",
            headers=headers,
            timeout=WAIT_SECONDS + 10,
        )

    async def upload(self, slot: str, name: str, file: BinaryIO, alt: str) -> dict[str, Any]:
        """Upload a picture; Refused with the reason."""
        async with self._client(slot) as client:
            answer = await client.post(
                f"/slots/{slot}/uploads",
                files={"file": (name, file)},
                data={"alt": alt},
                headers={"Prefer": f"wait={WAIT_SECONDS}"},
            )
        return _taken(answer)

    async def state(self, upload: str) -> str:
        """``live`` and so on; ``gone`` if the upload no longer exists."""
        async with self._client() as client:
            answer = await client.get(f"/uploads/{upload}")
        return str(answer.json()["state"]) if answer.is_success else "gone"

    async def markup(self, upload: str, showing: Showing) -> dict[str, Any] | None:
        """Its markup; None while there are no files."""
        async with self._client() as client:
            answer = await client.get(f"/uploads/{upload}/markup", params=showing.query)
        return dict(answer.json()) if answer.is_success else None

    async def say(self, slot: str, upload: str, alt: str) -> None:
        """Set its alt text."""
        async with self._client(slot) as client:
            await client.patch(f"/uploads/{upload}", json={"alt": alt})

    async def remove(self, slot: str, upload: str) -> None:
        async with self._client(slot) as client:
            await client.delete(f"/uploads/{upload}")


def _taken(answer: httpx.Response) -> dict[str, Any]:
    if not answer.is_success:
        raise Refused(answer.json().get("detail", "The picture could not be uploaded."))
    return dict(answer.json())
