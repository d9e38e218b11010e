"""``Prefer: wait=N`` (RFC 7240): how long an answer may wait for the files."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Awaitable, Callable
from typing import TypeVar

MAX_WAIT = 60.0
"""seconds, after which proxies in between give up"""
LOOK_SECONDS = 0.1
Thing = TypeVar("Thing")


def wait_wanted(prefer: str) -> float:
    """The seconds in ``wait=N``; 0 without."""
    match = re.search(r"(?:^|[,;\s])wait\s*=\s*\"?(\d{1,6})", prefer)
    return min(MAX_WAIT, float(match[1])) if match else 0.0


def wait_applied(seconds: float) -> dict[str, str]:
    """The header that confirms a wait, if there was one."""
    return {"Preference-Applied": f"wait={seconds:.0f}"} if seconds else {}


async def until(
    done: Callable[[Thing], bool], look: Callable[[], Awaitable[Thing]], seconds: float
) -> Thing:
    """The result of ``look`` once it is done, or when the time is up."""
    deadline = asyncio.get_running_loop().time() + seconds
    found = await look()
    while not done(found) and asyncio.get_running_loop().time() < deadline:
        await asyncio.sleep(LOOK_SECONDS)
        found = await look()
    return found
