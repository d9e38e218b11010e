"""Writes a run into a site's out folder, as an export does."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import closing
from dataclasses import dataclass, field
from pathlib import Path

from sqlmodel import Session, col, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import MANIFEST, CutMemory, Manifest
from gefa.core.deliver.sprite import sprites_of
from gefa.core.errors import TakenPath
from gefa.core.files import write_whole
from gefa.core.make.job import CutJob
from gefa.core.make.make_cut import original_key
from gefa.core.make.naming import days_in_names, wanted_paths
from gefa.core.make.own_files import OwnFiles, Sources, previous
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.folder.out_folder import (
    alone_in,
    carry_over,
    make_ready,
    name_pictures,
    no_longer_made,
    put_sprites,
    remove,
    sources_gone,
    tidy,
)
from gefa.folder.out_memory import OutMemory, Remembered, Stamp, asked_by
from gefa.store import ledger
from gefa.store.blobs import BlobStore
from gefa.store.contracts import CutBody
from gefa.store.models import Revision, Run, RunSource, Source
from gefa.store.plans import expanded_for, whole_plan
from gefa.store.run_manifest import jobs_of, manifest_of, sources_of
from gefa.store.sources import present, source_stems, survey_of
from gefa.store.store import Store
from gefa.store.task_kinds import TaskKind


@dataclass
class _Read:
    """A source in its revision of the run."""

    survey: Survey
    blob: str
    wanted: list[str]


@dataclass
class _Made:
    """Everything a run made, and its records."""

    manifest: Manifest
    jobs: list[CutJob] = field(default_factory=list)
    keys: dict[str, str] = field(default_factory=dict)
    """by paths"""
    kept: set[str] = field(default_factory=set)
    """keys of all files"""
    made: dict[str, MadeVariant] = field(default_factory=dict)
    facts: dict[str, CutFacts] = field(default_factory=dict)
    sources: dict[str, _Read] = field(default_factory=dict)
    here: set[str] = field(default_factory=set)
    """names of all sources of the site"""
    ever: set[str] = field(default_factory=set)
    """and of those that were removed"""


def write_run(store: Store, run_id: str, folder: Path, out: Path, plan: Plan) -> list[str]:
    """Write the files of a finished run of the site in ``folder`` into ``out``, and remember there
    what an export remembers, so that neither makes again what the other made. ``plan`` is what the
    plan file says. Returns why files could not be written. PlanError, OSError if none can be."""
    with store.reading() as session:
        run = session.get(Run, run_id)
        if run is None or run.stopped is not None:
            return []  # of one that was stopped, what is missing is not known to be wanted no more
        made = _made_by(session, run)
    never = Sources(folder / name for name in made.ever)
    never.refuse(out, [*made.keys, *(file.path for file in made.manifest.originals)])
    make_ready(out)
    with alone_in(out), closing(OutMemory(out)) as memory:
        return _write(store, made, memory, folder, plan, never)


def _write(
    store: Store, made: _Made, memory: OutMemory, folder: Path, plan: Plan, never: Sources
) -> list[str]:
    out, own = memory.out, memory.own
    before = previous(out)
    gone = sources_gone(before, made.here)
    again = {*made.sources, *gone}
    kept = sorted({*made.manifest.sources, *_kept(before, gone)})
    manifest = Manifest(sources=kept, days=days_in_names(made.jobs))
    carry_over(before, again, manifest)
    taken = {**_taken(own, made), **_put_files(store.blobs, memory, made)}
    _leave_out(made, taken)
    for kind in ("files", "cuts", "originals", "failed", "warnings", "left_out"):
        getattr(manifest, kind).extend(getattr(made.manifest, kind))
    manifest.memory += [_memory_of(job, made) for job in made.jobs if job.variants]
    manifest.sprites = sprites_of(manifest.cuts, manifest.files)
    name_pictures(manifest, plan.pictures)
    dropped = no_longer_made(before, again, manifest)
    manifest.dropped += [
        Remark(cut=cut, reason=f"{path} is not made any more") for cut, path in dropped
    ]
    put_sprites(own, out, manifest)
    write_whole(out / MANIFEST, manifest.to_json().encode())
    for _, path in dropped:
        remove(out, path, never)
    own.settle({file.path: file.sha256 for file in manifest.files})
    _remember_sources(memory, made.sources, gone, folder, plan)
    memory.end(path for _, path in dropped)
    tidy(out)
    return list(taken.values())


def _taken(own: OwnFiles, made: _Made) -> dict[str, str]:
    """Paths where somebody else's files lie, with the reasons."""
    taken: dict[str, str] = {}
    for path in [*made.keys, *(file.path for file in made.manifest.originals)]:
        try:
            own.check(path)
        except TakenPath as error:
            taken[path] = error.told
            made.keys.pop(path, None)
    return taken


def _leave_out(made: _Made, taken: Mapping[str, str]) -> None:
    """Take files out of the run that could not be written; they have failed."""
    written = [(file.path, file.cut, file.source) for file in made.manifest.files]
    written += [(file.path, file.name, file.source) for file in made.manifest.originals]
    made.manifest.failed += [
        Remark(cut=cut, reason=taken[path], source=source)
        for path, cut, source in written
        if path in taken
    ]
    made.manifest.files = [f for f in made.manifest.files if f.path not in taken]
    made.manifest.originals = [f for f in made.manifest.originals if f.path not in taken]


def _memory_of(job: CutJob, made: _Made) -> CutMemory:
    keys = {variant.key for variant in job.variants} & made.made.keys() - made.kept
    return CutMemory(
        source=job.source,
        cut=job.cut.name,
        facts_key=job.facts_key,
        facts=made.facts.get(job.facts_key),
        tried={key: made.made[key] for key in sorted(keys)},
    )


def _kept(before: Manifest | None, gone: set[str]) -> set[str]:
    return {name for name in (before.sources if before else []) if name not in gone}


Runs = list[tuple[Source, RunSource]]


def _sources_of(session: Session, run: Run) -> tuple[Runs, Runs]:
    """The sources of a run; and apart from them those of which a later run has finished before this
    one: what that one made is newer."""
    later = set(
        session.exec(
            select(RunSource.source_id)
            .join(Run, col(Run.id) == col(RunSource.run_id))
            .where(
                col(Run.id) > run.id,
                col(Run.finished).is_not(None),
                col(Run.stopped).is_(None),
                RunSource.basis != "",
            )
        )
    )
    all_sources = sources_of(session, run)
    current = [(source, own) for source, own in all_sources if source.id not in later]
    return current, [(source, own) for source, own in all_sources if source.id in later]


def _without(manifest: Manifest, sources: set[str]) -> Manifest:
    """A manifest without what was made of these sources."""
    kept = manifest.model_copy(
        update={"sources": [name for name in manifest.sources if name not in sources]}
    )
    for kind in ("files", "cuts", "originals", "failed", "warnings", "left_out"):
        setattr(kept, kind, [one for one in getattr(manifest, kind) if one.source not in sources])
    return kept


def _made_by(session: Session, run: Run) -> _Made:
    found = _Made(manifest_of(session, run), here={s.name for s in present(session)})
    found.ever = set(session.exec(select(Source.name)))
    sources, older = _sources_of(session, run)
    found.manifest = _without(found.manifest, {own.name for _, own in older})
    outdated = {source.id for source, _ in older}
    for task in jobs_of(session, run.id):
        if task.kind is TaskKind.CUT and task.source_id not in outdated:
            found.jobs.append(CutBody.model_validate(task.task).job)
            if task.report:
                found.keys |= JobReport.model_validate(task.report).keys
    found.kept = set(found.keys.values())
    keys = [variant.key for job in found.jobs for variant in job.variants]
    found.made = ledger.known(session, keys)
    found.facts = ledger.facts(session, [job.facts_key for job in found.jobs if job.variants])
    stems = source_stems(session)
    for source, own in sources:
        revision = session.get_one(Revision, own.revision_id)
        prepared = expanded_for(session, source, revision, whole_plan(session, source), stems)
        wanted = wanted_paths(prepared.jobs, prepared.originals)
        survey = survey_of(revision).called(own.name)
        found.sources[own.name] = _Read(survey, revision.blob, wanted)
    return found


def _put_files(blobs: BlobStore, memory: OutMemory, made: _Made) -> dict[str, str]:
    """Write the files that are not there already. Returns the paths of those that could not be
    written, with the reasons."""
    failed: dict[str, str] = {}
    files = [(path, key, made.made[key]) for path, key in made.keys.items()]
    files += [
        (file.path, original_key(file.sha256), MadeVariant(sha256=file.sha256, bytes=file.bytes))
        for file in made.manifest.originals
    ]
    memory.look_up(made.jobs)
    placed: dict[str, tuple[str, int]] = {}
    for path, key, one in files:
        if memory.intact(key, path):
            continue
        blob = blobs.checked(one.sha256)
        try:
            if blob is None:
                raise TakenPath(f"{path} is damaged in the server's data.", advice="Run it again.")
            placed[path] = memory.place(blob, path, key, one)
        except TakenPath as error:
            failed[path] = error.told
    memory.write(made.made, made.facts, placed)
    return failed


def _remember_sources(
    memory: OutMemory, sources: Mapping[str, _Read], gone: set[str], folder: Path, plan: Plan
) -> None:
    for name, read in sources.items():
        own = plan.for_source(name)
        try:
            stamp = Stamp.of(folder / name).hashed(folder / name)
        except OSError:
            continue  # it is gone meanwhile
        if stamp.sha256 == read.blob:
            asked = asked_by(own, whole=bool(own.cuts))
            memory.remember(name, Remembered(survey=read.survey, stamp=stamp, asked=asked))
    memory.note_wanted({name: read.wanted for name, read in sources.items()}, gone)
