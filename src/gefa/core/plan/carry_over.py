"""Moves a plan to the next revision of its source."""

from __future__ import annotations

from gefa.core.cut.cut import Remark
from gefa.core.cut.revisions import Changes
from gefa.core.plan.plan import CutEntry, Plan


def carried_over(plan: Plan, changes: Changes) -> tuple[Plan, list[Remark]]:
    """The plan for the newer revision, with a warning for each part that moved to another path.
    Parts that are gone stay in the plan, in case they come back."""
    moved = {again.before: again for again in changes.elsewhere}
    remarks: list[Remark] = []
    cuts: list[CutEntry] = []
    for entry in plan.cuts:
        again = moved.get(entry.part)
        if again is None:
            cuts.append(entry)
            continue
        reason = f"was {again.before!r}; found again by its {again.by.value}"
        remarks.append(Remark(cut=again.after, part=again.after, reason=reason))
        cuts.append(entry.model_copy(update={"part": again.after}))
    return plan.model_copy(update={"cuts": tuple(cuts)}), remarks
