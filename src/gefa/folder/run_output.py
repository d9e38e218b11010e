"""Writes a run into a site's out folder, as an export does."""

from __future__ import annotations

import shutil
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from sqlmodel import Session, select

from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.deliver.sprite import sprites_of
from gefa.core.errors import TakenPath
from gefa.core.files import write_whole
from gefa.core.make.folder_shelf import FRESH, FolderShelf
from gefa.core.make.job import CutJob
from gefa.core.make.naming import days_in_names, wanted_paths
from gefa.core.make.own_files import OwnFiles, Sources, previous
from gefa.core.make.report import JobReport
from gefa.core.plan.plan import Plan
from gefa.core.read.survey import Survey
from gefa.core.treat.made import CutFacts, MadeVariant
from gefa.folder.out_folder import (
    carry_over,
    make_ready,
    name_pictures,
    no_longer_made,
    put_sprites,
    remove,
    sources_gone,
    tidy,
)
from gefa.folder.surveys import Remembered, Stamp, SurveyMemory, asked_by
from gefa.store import ledger
from gefa.store.blobs import BlobStore
from gefa.store.contracts import CutBody, TaskKind
from gefa.store.models import Revision, Run, Source
from gefa.store.plans import expanded_for, whole_plan
from gefa.store.run_manifest import jobs_of, manifest_of, sources_of
from gefa.store.sources import present, source_stems, survey_of
from gefa.store.store import Store


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
    before = previous(out)
    gone = sources_gone(before, made.here)
    again = {*made.sources, *gone}
    kept = sorted({*made.manifest.sources, *_kept(before, gone)})
    manifest = Manifest(sources=kept, days=days_in_names(made.jobs))
    carry_over(before, again, manifest)
    shelf = FolderShelf(out)
    taken = _leave_taken(shelf.own, made)
    for kind in ("files", "cuts", "originals", "failed", "warnings", "left_out"):
        getattr(manifest, kind).extend(getattr(made.manifest, kind))
    _put_files(store.blobs, shelf, out, made)
    manifest.sprites = sprites_of(manifest.cuts, manifest.files)
    name_pictures(manifest, plan.pictures)
    dropped = no_longer_made(before, again, manifest)
    manifest.dropped += [
        Remark(cut=cut, reason=f"{path} is not made any more") for cut, path in dropped
    ]
    shelf.remember(made.made, {key: path for path, key in made.keys.items()}, made.facts)
    put_sprites(shelf.own, out, manifest)
    write_whole(out / MANIFEST, manifest.to_json().encode())
    for _, path in dropped:
        remove(out, path, never)
    shelf.own.settle({file.path: file.sha256 for file in manifest.files})
    _remember_sources(SurveyMemory(out), made.sources, gone, folder, plan)
    tidy(out)
    return taken


def _leave_taken(own: OwnFiles, made: _Made) -> list[str]:
    """Take files out of the run whose places hold somebody else's files; they have failed. Returns
    the reasons."""
    taken: dict[str, str] = {}
    written = [(file.path, file.cut, file.source) for file in made.manifest.files]
    written += [(file.path, file.name, file.source) for file in made.manifest.originals]
    for path, cut, source in written:
        try:
            own.check(path)
        except TakenPath as error:
            taken[path] = error.told
            made.manifest.failed.append(Remark(cut=cut, reason=error.told, source=source))
    made.manifest.files = [f for f in made.manifest.files if f.path not in taken]
    made.manifest.originals = [f for f in made.manifest.originals if f.path not in taken]
    made.keys = {path: key for path, key in made.keys.items() if path not in taken}
    return list(taken.values())


def _kept(before: Manifest | None, gone: set[str]) -> set[str]:
    return {name for name in (before.sources if before else []) if name not in gone}


def _made_by(session: Session, run: Run) -> _Made:
    found = _Made(manifest_of(session, run), here={s.name for s in present(session)})
    found.ever = set(session.exec(select(Source.name)))
    for task in jobs_of(session, run.id):
        if task.kind is TaskKind.CUT:
            found.jobs.append(CutBody.model_validate(task.task).job)
            if task.report:
                found.keys |= JobReport.model_validate(task.report).keys
    keys = [variant.key for job in found.jobs for variant in job.variants]
    found.made = ledger.known(session, keys)
    found.facts = ledger.facts(session, [job.facts_key for job in found.jobs if job.variants])
    stems = source_stems(session)
    for source, own in sources_of(session, run):
        revision = session.get_one(Revision, own.revision_id)
        prepared = expanded_for(session, source, revision, whole_plan(session, source), stems)
        wanted = wanted_paths(prepared.jobs, prepared.originals)
        survey = survey_of(revision).called(own.name)
        found.sources[own.name] = _Read(survey, revision.blob, wanted)
    return found


def _put_files(blobs: BlobStore, shelf: FolderShelf, out: Path, made: _Made) -> None:
    """Files that already have the right bytes are left alone."""
    for path, key in made.keys.items():
        if not shelf.intact(key, path):
            shelf.own.claim(path, made.made[key].sha256)
            _copy(blobs.path(made.made[key].sha256), out, path)
    for file in made.manifest.originals:
        target = out / file.path
        if not target.is_file() or target.stat().st_size != file.bytes:
            shelf.own.claim(file.path, file.sha256)
            _copy(blobs.path(file.sha256), out, file.path)


def _copy(blob: Path, out: Path, path: str) -> None:
    target, draft = out / path, out / FRESH / blob.name
    for folder in (target.parent, draft.parent):
        folder.mkdir(parents=True, exist_ok=True)
    shutil.copyfile(blob, draft)
    draft.replace(target)


def _remember_sources(
    memory: SurveyMemory, sources: Mapping[str, _Read], gone: set[str], folder: Path, plan: Plan
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
