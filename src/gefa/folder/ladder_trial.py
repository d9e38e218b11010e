"""Encodes proposed ladders to see what they save, and writes them into the plan."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from gefa.core.cut.cut import Origin
from gefa.core.deliver.manifest import CutRecord, File, Manifest
from gefa.core.errors import PlanError
from gefa.core.plan.editor import PlanEditor
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.core.weigh.best_ladder import Demand
from gefa.core.weigh.curve import WeightCurve
from gefa.core.weigh.ladders import LadderAdvice, priced
from gefa.core.weigh.shown import ShownFile
from gefa.folder.export import Exporter
from gefa.folder.export_calls import survey_source
from gefa.folder.site_files import SiteFile
from gefa.work.pool import Pool


@dataclass
class LadderTrial:
    """Proposals for cuts of a manifest, and the plan with them as exceptions."""

    pool: Pool
    plan: Plan
    manifest: Manifest
    files: Sequence[SiteFile]
    marks: Path

    def __post_init__(self) -> None:
        self._cuts = {cut.name: cut for cut in self.manifest.cuts}
        self._files = {file.name: file for file in self.files}
        self._surveys: dict[str, Survey] = {}

    def can_have(self, advice: LadderAdvice) -> bool:
        """Whether its cut can have widths of its own: slices have their recipe's."""
        cut = self._cuts.get(advice.name)
        return cut is not None and cut.origin is not Origin.SLICE and cut.source in self._files

    def with_ladders(self, advices: Sequence[LadderAdvice]) -> Plan:
        """The plan with the proposed widths as exceptions of their cuts."""
        plan = self.plan
        for advice in advices:
            plan = self._with_widths(plan, self._cuts[advice.name], advice.proposed.widths)
        return plan

    def confirmed(
        self, advices: Sequence[LadderAdvice], demands: dict[str, list[Demand]]
    ) -> list[LadderAdvice]:
        """The proposals with their real weights: their files are encoded in a separate place."""
        if not advices:
            return []
        plan = self.with_ladders(advices)
        sources = {self._cuts[advice.name].source for advice in advices}
        files = [file for file in self.files if file.name in sources]
        with tempfile.TemporaryDirectory() as aside:
            exporter = Exporter(self.pool, Path(aside), marks=self.marks)
            made = exporter.export(files, plan).manifest
        found = []
        for advice in advices:
            cut = self._cuts[advice.name]
            own = [f for f in made.files if (f.source, f.cut) == (cut.source, cut.name)]
            real = [replace(one, curve=_curve(own, one)) for one in demands[advice.name]]
            widths = sorted({file.width for file in own}) or list(advice.proposed.widths)
            found.append(advice.model_copy(update={"proposed": priced(widths, real)}))
        return found

    def _with_widths(self, plan: Plan, cut: CutRecord, widths: Sequence[int]) -> Plan:
        editor = PlanEditor(plan.for_source(cut.source), self._survey(cut.source))
        edited = editor.widen(cut.part, cut.recipe, widths)
        own = [
            entry.model_copy(update={"source": cut.source, "id": ""})
            for entry in edited.cuts
            if entry.part == cut.part
        ]
        kept = [
            entry for entry in plan.cuts if (entry.source, entry.part) != (cut.source, cut.part)
        ]
        return plan.with_entries(cuts=[*kept, *own]).checked()

    def _survey(self, source: str) -> Survey:
        if source not in self._surveys:
            file = self._files.get(source)
            if file is None:
                raise PlanError(f"{source} is not there any more.", advice="Export again.")
            plan = self.plan.for_source(source)
            with tempfile.TemporaryDirectory() as aside:
                self._surveys[source] = self.pool.call(
                    survey_source, file.path, source, plan, False, Path(aside)
                )
        return self._surveys[source]


def _curve(made: Sequence[File], demand: Demand) -> WeightCurve:
    """The current weights of the demanded format; the earlier ones if it is no longer made."""
    files = [
        ShownFile(f.path, f.format, f.width, f.width, f.height, f.sent, f.cut)
        for f in made
        if f.format is demand.format
    ]
    return WeightCurve.of(files) if files else demand.curve
