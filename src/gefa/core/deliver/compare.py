"""Compares two runs of a source: which files got better, got worse, or stayed the same."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from gefa.core.deliver.manifest import File, Manifest

SAME_LOOK = 0.5
"""points of SSIMULACRA2 that nobody can see"""
SAME_WEIGHT = 0.005
"""share of the bytes below which two files weigh the same"""


class Verdict(StrEnum):
    """How a file differs from the one of the older run. ``TRADED`` is lighter and looks worse, or
    heavier and looks better."""

    BETTER = "better"
    WORSE = "worse"
    TRADED = "traded"
    SAME = "same"
    NEW = "new"
    GONE = "gone"


@dataclass(frozen=True)
class ComparedFiles:
    """A file of the earlier run, of the later run, or of both."""

    before: File | None
    after: File | None

    @property
    def path(self) -> str:
        file = self.after or self.before
        assert file is not None
        return file.path

    @property
    def verdict(self) -> Verdict:
        """Better is lighter at no worse look, or a better look at no more bytes."""
        if self.before is None or self.after is None:
            return Verdict.NEW if self.before is None else Verdict.GONE
        if self.before.sha256 == self.after.sha256:
            return Verdict.SAME
        lighter = _sign(self.before.bytes - self.after.bytes, SAME_WEIGHT * self.before.bytes)
        looks = _sign(self.looks or 0.0, SAME_LOOK)
        if lighter == looks == 0:
            return Verdict.SAME
        if lighter * looks < 0:
            return Verdict.TRADED
        return Verdict.BETTER if lighter + looks > 0 else Verdict.WORSE

    @property
    def looks(self) -> float | None:
        """Points by which the look improved; None if one of the files has no score."""
        if self.before is None or self.after is None:
            return None
        if self.before.score is None or self.after.score is None:
            return None
        return self.after.score - self.before.score

    @property
    def heavier(self) -> int:
        """Bytes by which the file grew."""
        return (self.after.bytes if self.after else 0) - (self.before.bytes if self.before else 0)


def _sign(value: float, slack: float) -> int:
    return 0 if abs(value) <= slack else (1 if value > 0 else -1)


def paired(before: Manifest, after: Manifest) -> list[ComparedFiles]:
    """Pair the files of sources that both runs have, by cut, format and width. In the order of the
    later run: files that differ first, then files that are gone, then the rest. If the runs share
    no source name, all files are paired."""
    shared = set(before.sources) & set(after.sources)
    theirs, ours = (
        [file for file in manifest.files if not shared or file.source in shared]
        for manifest in (before, after)
    )
    old = {(file.cut, file.format, file.width): file for file in theirs}
    pairs = [ComparedFiles(old.pop((f.cut, f.format, f.width), None), f) for f in ours]
    pairs += [ComparedFiles(file, None) for file in old.values()]
    return sorted(pairs, key=lambda pair: pair.verdict is Verdict.SAME)


def counted(pairs: Sequence[ComparedFiles]) -> dict[Verdict, int]:
    """The number of files with each verdict; verdicts without files are left out."""
    verdicts = [pair.verdict for pair in pairs]
    return {verdict: verdicts.count(verdict) for verdict in Verdict if verdict in verdicts}
