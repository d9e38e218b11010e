"""Keeps a site's ``gefa.toml`` and the plan in the application in step."""

from __future__ import annotations

import logging
import threading
from dataclasses import dataclass
from pathlib import Path

from pydantic import BaseModel, ValidationError
from sqlmodel import Session

from gefa.core.errors import GefaError, PlanError
from gefa.core.files import write_whole
from gefa.core.plan.load import parse_plan
from gefa.core.plan.plan import Plan
from gefa.core.plan.plan_text import rewritten
from gefa.core.plan.site_plan import Difference, say_the_same
from gefa.store.site_plan import (
    import_differences,
    import_plan,
    prepare_import,
    site_plan,
    version_of,
)
from gefa.store.sources import present
from gefa.store.store import Store

log = logging.getLogger("gefa.site")


class _InStep(BaseModel):
    """The text of the file, and the version of the application's plan, when both were equal."""

    text: str
    version: str


@dataclass(frozen=True)
class PlanFileState:
    """``problem`` says why the file is not followed; ``both`` says that file and screens were
    changed since they were equal."""

    problem: str = ""
    both: bool = False


class PlanFile:
    """Changes of the file are imported, and changes on the screens are written to the file. If both
    changed, neither is touched until a person chooses."""

    def __init__(self, store: Store, path: Path) -> None:
        self._store = store
        self.path = path
        self._record = store.folder / "plan-file.json"
        self._lock = threading.Lock()
        self.state = PlanFileState()

    def follow(self) -> bool:
        """Copy changes from one side to the other; returns whether there were any."""
        with self._lock:
            before = self._in_step()
            text = self._text(before)
            with self._store.reading() as session:
                plan = site_plan(session)
            by_file, by_screens = text != before.text, version_of(plan) != before.version
            try:
                if by_file and by_screens:
                    self._compare(text, plan)
                elif by_file:
                    self._take(text)
                elif by_screens:
                    self._write(text, plan)
                else:
                    self.state = PlanFileState()
                    return False
            except GefaError as error:
                self.state = PlanFileState(problem=str(error), both=by_screens)
                return False
            return not self.state.both

    @property
    def text(self) -> str:
        """The text of the file; empty if it cannot be read."""
        try:
            return self.path.read_text("utf-8", "replace")
        except OSError:
            return ""

    @property
    def before_comments_went(self) -> Path | None:
        """The text of the file before its comments were lost; None if they were not."""
        return self._commented if self._commented.exists() else None

    @property
    def _commented(self) -> Path:
        return self._record.with_name("plan-before.toml")

    def differences(self) -> list[Difference]:
        """Differences of the file from the screens. PlanError if it cannot be read."""
        plan = parse_plan(self._text(self._in_step()), self.path.name)
        with self._store.reading() as session:
            return import_differences(session, plan)

    def choose_file(self) -> None:
        """Import the file, and drop the changes on the screens. PlanError if it is not a plan."""
        with self._lock:
            self._take(self._text(self._in_step()))

    def choose_screens(self) -> None:
        """Write the screens' plan, and drop the changes in the file."""
        with self._lock:
            before = self._in_step()
            with self._store.reading() as session:
                plan = site_plan(session)
            self._write(self._text(before), plan, else_from=before.text)

    def _text(self, before: _InStep) -> str:
        """The current text. A missing file counts as unchanged: some programs save by deleting it
        first. PlanError if it cannot be read."""
        try:
            return self.path.read_text("utf-8")
        except FileNotFoundError:
            return before.text
        except (OSError, UnicodeDecodeError) as error:
            raise PlanError(f"cannot be read: {error}.", file=self.path.name) from error

    def _in_step(self) -> _InStep:
        try:
            return _InStep.model_validate_json(self._record.read_bytes())
        except (OSError, ValidationError):
            return _InStep(text="", version=version_of(Plan()))

    def _note(self, text: str, version: str) -> None:
        noted = _InStep(text=text, version=version)
        write_whole(self._record, noted.model_dump_json().encode())
        self.state = PlanFileState()

    def _compare(self, text: str, plan: Plan) -> None:
        with self._store.reading() as session:
            same = say_the_same(parse_plan(text, self.path.name), plan, _names(session))
        if same:
            self._note(text, version_of(plan))
        else:
            self.state = PlanFileState(both=True)

    def _take(self, text: str) -> None:
        plan = parse_plan(text, self.path.name)
        with self._store.reading() as session:
            wanted = prepare_import(session, plan)
        with self._store.changing() as session:
            import_plan(session, wanted, f"{self.path.name} was changed")
            version = version_of(site_plan(session))
        self._note(text, version)

    def _write(self, text: str, plan: Plan, else_from: str = "") -> None:
        """``else_from`` is a text to start from if ``text`` is not a plan."""
        with self._store.reading() as session:
            names = _names(session)
        found = text
        try:
            parse_plan(text, self.path.name)
        except PlanError:
            text = else_from
        new = rewritten(text, plan, lambda one, other: say_the_same(one, other, names))
        if self._text(self._in_step()) != found:
            return  # somebody saved the file meanwhile: both changed, as the next turn finds
        if "#" in text and "#" not in new:
            write_whole(self._commented, text.encode())
            log.warning("%s lost its comments; they are in %s", self.path, self._commented)
        write_whole(self.path, new.encode())
        self._note(new, version_of(plan))


def _names(session: Session) -> set[str]:
    return {source.name for source in present(session)}
