"""Compares two runs of a source: which files got better, got worse, or stayed the same."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from gefa.core.deliver.manifest import File, Manifest

SAME_LOOK = 0.5
"""points of SSIMULACRA2 that nobody sees"""
SAME_WEIGHT = 0.005
"""of the bytes"""


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
    """A file of the run before, of the run after, or of both."""

    before: File | None
    after: File | None

    @property
    def path(self) -> str:
        file = self.after or self.before
        assert file is not None
        return file.path

    @property
    def verdict(self) -> Verdict:
        """Lighter at no worse a look is better, and so is a better look at no more weight."""
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
        """How many points better it looks; None if one was not measured."""
        if self.before is None or self.after is None:
            return None
        if self.before.score is None or self.after.score is None:
            return None
        return self.after.score - self.before.score

    @property
    def heavier(self) -> int:
        """By how many bytes."""
        return (self.after.bytes if self.after else 0) - (self.before.bytes if self.before else 0)


def _sign(value: float, slack: float) -> int:
    return 0 if abs(value) <= slack else (1 if value > 0 else -1)


def paired(before: Manifest, after: Manifest) -> list[ComparedFiles]:
    """Files of the sources that both runs had, by what they are: cut, format and width; in the
    order of the run after, but those that differ first, and those that are gone before those that
    are the same. Where they share no source's name, all."""
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
    """How many files have each verdict, those that there are."""
    verdicts = [pair.verdict for pair in pairs]
    return {verdict: verdicts.count(verdict) for verdict in Verdict if verdict in verdicts}
