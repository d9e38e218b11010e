"""``gefa check``: whether an out folder is what the plan would make. Nothing is encoded."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from enum import StrEnum
from pathlib import Path
from xml.etree import ElementTree

from pydantic import BaseModel

from gefa.core.cut.cut import Remark
from gefa.core.cut.glob import covers
from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.errors import PlanError
from gefa.core.files import sha256_of
from gefa.core.make.own_files import HIDDEN
from gefa.core.plan.plan import CheckTable, Plan
from gefa.core.units import weight
from gefa.core.weigh.report import over_budget
from gefa.folder.dry_run import Foreseen, foreseen
from gefa.folder.page_weights import Weighing, audience_called, uploads_folder
from gefa.folder.site_files import SiteFile
from gefa.store.upload_addresses import uploads_in
from gefa.work.pool import Pool

MOST_FOREIGN = 1_000
"""files that are listed one by one"""


class Fault(StrEnum):
    """Kinds of faults in an out folder."""

    STALE = "stale"
    """a cut must be made again, or a file is no longer made"""
    MISSING = "missing"
    DAMAGED = "damaged"
    FOREIGN = "foreign"
    """nothing makes it"""
    FAILED = "failed"
    WARNING = "warning"
    """a warning that the plan treats as an error"""
    BUDGET = "budget"


class Finding(BaseModel):
    """One fault: of a ``cut`` of a source, or of a file at a ``path``."""

    fault: Fault
    reason: str
    source: str = ""
    cut: str = ""
    path: str = ""


class Checked(BaseModel):
    """Counts of what was checked, and all faults. ``warnings`` are those that an export would give,
    but for those that are faults."""

    sources: int
    cuts: int
    files: int
    bytes: int
    findings: list[Finding] = []
    warnings: list[Remark] = []

    def to_junit(self) -> str:
        """JUnit XML with a test case for each finding, or one that passed."""
        suite = ElementTree.Element(
            "testsuite",
            name="gefa check",
            tests=str(max(1, len(self.findings))),
            failures=str(len(self.findings)),
        )
        for one in self.findings:
            name = one.path or one.cut or one.source or "the site"
            case = ElementTree.SubElement(
                suite, "testcase", classname=one.source or "gefa", name=name
            )
            failure = ElementTree.SubElement(
                case, "failure", type=one.fault.value, message=one.reason
            )
            failure.text = one.reason
        if not self.findings:
            ElementTree.SubElement(suite, "testcase", classname="gefa", name="up to date")
        if self.warnings:
            out = ElementTree.SubElement(suite, "system-out")
            lines = (
                ": ".join(filter(None, (one.source, one.cut, one.reason))) for one in self.warnings
            )
            out.text = "\n".join(f"warning: {line}" for line in lines)
        return ElementTree.tostring(suite, encoding="unicode", xml_declaration=True)


def check(
    pool: Pool,
    sources: Sequence[SiteFile],
    plan: Plan,
    out: Path,
    *,
    marks: Path,
    plan_file: Path | None,
) -> Checked:
    """Compare the files in ``out`` with what the plan makes of the sources. ``plan_file`` is given
    if they are all the sources of the site. PlanError as for ``Exporter.export``."""
    found = foreseen(pool, sources, plan, out, marks=marks, plan_file=plan_file)
    before = found.planned.before or Manifest(sources=[])
    findings = [*_failures(found), *_of_jobs(found, out), *_of_originals(found, before, out)]
    expected = expected_paths(found, before)
    findings += _left_over(found, before, expected)
    if plan_file is not None:
        findings += _foreign(out, expected, before)
    warnings = _warnings(found, before)
    faults = [remark for remark in warnings if _is_error(remark, plan.check)]
    findings += [
        Finding(fault=Fault.WARNING, reason=one.reason, source=one.source, cut=one.cut)
        for one in faults
    ]
    sizes = {path: (out / path).stat().st_size for path in expected if (out / path).is_file()}
    findings += _over(sizes, plan.check)
    findings += _of_pages(plan, before, out, marks)
    return Checked(
        sources=len(sources),
        cuts=len(found.jobs),
        files=len(sizes),
        bytes=sum(sizes.values()),
        findings=findings,
        warnings=[remark for remark in warnings if remark not in faults],
    )


def _failures(found: Foreseen) -> Iterator[Finding]:
    failed = list(found.planned.failed)
    for prepared in found.planned.prepared.values():
        failed += prepared.failed
    for remark in failed:
        yield Finding(
            fault=Fault.FAILED, reason=remark.reason, source=remark.source, cut=remark.cut
        )


def _of_jobs(found: Foreseen, out: Path) -> Iterator[Finding]:
    for job, seen in found.jobs:
        about = {"source": job.source, "cut": job.cut.name}
        if not seen.decided:
            reason = "it is missing, or older than its plan or source"
            yield Finding(fault=Fault.STALE, reason=reason, **about)
            continue
        for variant in seen.variants:
            if found.memory.intact(variant.key, variant.path):
                continue
            made = seen.made[variant.key]
            fault, reason = _state_of(out / variant.path, made.bytes, made.sha256)
            if fault is not None:
                yield Finding(fault=fault, reason=reason, path=variant.path, **about)


def _of_originals(found: Foreseen, before: Manifest, out: Path) -> Iterator[Finding]:
    known = {(file.source, file.path): file for file in before.originals}
    for name, prepared in found.planned.prepared.items():
        for job in prepared.originals:
            file = known.get((name, job.path))
            if file is None:
                reason = "it is not extracted from its design yet"
                fault: Fault | None = Fault.STALE
            else:
                fault, reason = _state_of(out / job.path, file.bytes, file.sha256)
            if fault is not None:
                yield Finding(
                    fault=fault, reason=reason, source=name, cut=job.facts.name, path=job.path
                )


def _state_of(file: Path, size: int, sha256: str) -> tuple[Fault | None, str]:
    """The fault of a file, and its description."""
    try:
        if file.stat().st_size != size:
            return Fault.DAMAGED, "its size is not the one it was made with"
        if sha256_of(file) != sha256:
            return Fault.DAMAGED, "its bytes are not the ones that were made"
    except OSError:
        return Fault.MISSING, "it is not there"
    return None, ""


def expected_paths(found: Foreseen, before: Manifest) -> set[str]:
    """Paths of files that may exist. All possible files of an undecided cut count, so that they are
    not reported twice."""
    paths = {v.path for _, seen in found.jobs if seen.decided for v in seen.variants}
    paths |= {v.path for job, seen in found.jobs if not seen.decided for v in job.variants}
    paths |= {job.path for p in found.planned.prepared.values() for job in p.originals}
    others = {name for name in before.sources if name not in found.planned.again}
    others |= {remark.source for remark in found.planned.failed}
    paths |= {file.path for file in before.files if file.source in others}
    return paths | {file.path for file in before.originals if file.source in others}


def _left_over(found: Foreseen, before: Manifest, expected: set[str]) -> Iterator[Finding]:
    again = found.planned.again
    for file in before.files:
        if file.source in again and file.path not in expected:
            yield Finding(
                fault=Fault.STALE,
                reason="it is not made any more",
                source=file.source,
                cut=file.cut,
                path=file.path,
            )


def _foreign(out: Path, expected: set[str], before: Manifest) -> Iterator[Finding]:
    known = expected | {file.path for file in before.files} | {MANIFEST}
    known |= {file.path for file in before.originals}
    known |= {sprite.path for sprite in before.sprites}
    count = 0
    for file in sorted(out.rglob("*")):
        path = file.relative_to(out).as_posix()
        if path.split("/")[0] == HIDDEN or not file.is_file() or path in known:
            continue
        if path.endswith(("-layout.html", "-layout.css", "-layout.json", "-cuts.pdf")):
            continue
        count += 1
        if count > MOST_FOREIGN:
            reason = f"and more than {MOST_FOREIGN:,} others that nothing makes"
            yield Finding(fault=Fault.FOREIGN, reason=reason)
            return
        yield Finding(fault=Fault.FOREIGN, reason="nothing makes it", path=path)


def _warnings(found: Foreseen, before: Manifest) -> list[Remark]:
    """The warnings that the plan gives now, and those of the last export about its files."""
    told = list(found.planned.warnings)
    for prepared in found.planned.prepared.values():
        told += prepared.warnings
        if prepared.gaps:
            told.append(Remark(cut="slices", reason=prepared.gaps))
    distinct = {(one.source, one.cut, one.reason): one for one in [*told, *before.warnings]}
    return list(distinct.values())


def _is_error(remark: Remark, table: CheckTable) -> bool:
    return any(covers(f"**{glob}**", remark.reason) for glob in table.errors)


def _of_pages(plan: Plan, before: Manifest, out: Path, base: Path) -> Iterator[Finding]:
    """Pages that are over their budgets, or cannot be weighed, with the current files."""
    if not any(page.budget for page in plan.pages):
        return
    try:
        audience = audience_called(plan, "", base)
    except PlanError as error:
        yield Finding(fault=Fault.FAILED, reason=str(error), cut="audience")
        return
    with uploads_in(uploads_folder(base)) as uploads:
        weighing = Weighing(plan, before, audience, base, out, uploads)
        yield from _page_findings(weighing)


def _page_findings(weighing: Weighing) -> Iterator[Finding]:
    for entry in weighing.plan.pages:
        if entry.budget is None:
            continue
        page = weighing.page(entry, visits=False)
        for problem in page.problems:
            yield Finding(fault=Fault.FAILED, reason=problem, cut=f"page {page.name}")
        if page.kept is False:
            yield Finding(fault=Fault.BUDGET, reason=over_budget(page), cut=f"page {page.name}")


def _over(sizes: dict[str, int], table: CheckTable) -> Iterator[Finding]:
    total = sum(sizes.values())
    if table.max_bytes is not None and total > table.max_bytes:
        reason = f"all files weigh {weight(total)}, more than {weight(table.max_bytes)}"
        yield Finding(fault=Fault.BUDGET, reason=reason)
    if table.max_file_bytes is not None:
        for path, size in sorted(sizes.items()):
            if size > table.max_file_bytes:
                reason = f"weighs {weight(size)}, more than {weight(table.max_file_bytes)}"
                yield Finding(fault=Fault.BUDGET, reason=reason, path=path)
