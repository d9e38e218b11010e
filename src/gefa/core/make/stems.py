"""What the files of a source are called after: its own name without the ending.

Files of one folder that differ in their endings only get these behind their names, `logo-png` and
`logo-svg`; where that is not enough, they are numbered. So names depend on the files that lie
there, and not on which of them are exported.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from pathlib import PurePosixPath

from gefa.core.deliver.names import safe


def plain_stem(name: str) -> str:
    """The name of a source without its folder and ending."""
    return PurePosixPath(name).stem or name


def stems(names: Iterable[str]) -> dict[str, str]:
    """The stems of those of the sources ``names`` (paths with ``/``) that share theirs with another
    one of their folder. All others have ``plain_stem``."""
    alike: dict[tuple[str, str], list[str]] = defaultdict(list)
    for name in sorted(set(names)):
        folder = name.rpartition("/")[0]
        alike[folder, safe(plain_stem(name)).casefold()].append(name)
    found: dict[str, str] = {}
    for twins in alike.values():
        if len(twins) > 1:
            found |= _apart(twins)
    return found


def _apart(twins: list[str]) -> dict[str, str]:
    endings = Counter(map(_ending, twins))
    number: Counter[str] = Counter()
    found = {}
    for name in twins:
        ending, stem = _ending(name), plain_stem(name)
        if ending and len(endings) > 1:
            stem = f"{stem}-{ending}"
        if endings[ending] > 1:
            number[ending] += 1
            stem = f"{stem}-{number[ending]}"
        found[name] = stem
    return found


def _ending(name: str) -> str:
    return PurePosixPath(name).suffix.removeprefix(".").lower()
