"""The weight of cuts for the screens, as far as it is known before a run."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from sqlmodel import Session

from gefa.core.deliver.negotiate import sent_to_large_screens
from gefa.core.make.foresight import foresee
from gefa.core.make.job import CutJob
from gefa.core.treat.formats import FORMATS
from gefa.store import ledger


@dataclass
class Weighed:
    """What is known of a cut's files before a run: those made earlier have a weight in bytes.

    ``expected`` adds what the others are estimated to weigh, or a guess where nobody has looked
    at them yet (``estimated`` false). ``drawn`` tells that one SVG file stands for all widths,
    ``untouched`` how many files are the picture's own.
    """

    files: int = 0
    made: int = 0
    bytes: int = 0
    expected: int = 0
    estimated: bool = True
    served: int = 0
    baseline: int | None = None
    drawn: bool = False
    untouched: int = 0

    @property
    def known(self) -> bool:
        return self.files > 0 and self.made == self.files

    @property
    def saved(self) -> float | None:
        """The share of the baseline that a visitor saves at the largest width, 0..1."""
        if not self.known or not self.baseline:
            return None
        return max(0.0, 1 - self.served / self.baseline)


class _Known(NamedTuple):
    """A file made before: px, bytes."""

    width: int
    bytes: int


class Scales:
    """Weighs ``jobs`` by the ledger, with one query for all."""

    def __init__(self, session: Session, jobs: Sequence[CutJob]) -> None:
        keys = (variant.key for job in jobs for variant in job.variants)
        self._made = ledger.known(session, keys)
        self._facts = ledger.facts(session, (job.facts_key for job in jobs if job.variants))
        self._estimates = ledger.estimates(session, (job.estimate_key for job in jobs))

    def weigh(self, job: CutJob) -> Weighed:
        facts = self._facts.get(job.facts_key) if job.variants else None
        estimate = self._estimates.get(job.estimate_key)
        seen = foresee(job, facts, self._made, estimate)
        weighed = Weighed(
            files=len(seen.variants),
            expected=seen.expected,
            estimated=seen.estimated or estimate is not None,
            drawn=any(FORMATS[variant.format].drawn for variant in seen.variants),
        )
        known: list[_Known] = []
        for variant in seen.variants:
            made = seen.made.get(variant.key)
            if made is not None:
                weighed.made += 1
                weighed.bytes += made.bytes
                weighed.untouched += made.untouched
                known.append(_Known(variant.width, made.sent))
        sent = sent_to_large_screens(known)
        weighed.served = sent.bytes if sent else 0
        weighed.baseline = facts.baseline_bytes if facts else None
        return weighed


def added(all_weighed: Iterable[Weighed]) -> Weighed:
    """The sum of cuts; savings only of cuts that are fully known."""
    total = Weighed(baseline=0)
    for weighed in all_weighed:
        total.files += weighed.files
        total.made += weighed.made
        total.bytes += weighed.bytes
        total.expected += weighed.expected
        total.estimated &= weighed.estimated
        if weighed.known and weighed.baseline:
            total.served += weighed.served
            total.baseline = (total.baseline or 0) + weighed.baseline
    return total
