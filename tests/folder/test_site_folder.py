"""A plan file that is saved while the application looks at it."""

from __future__ import annotations

from pathlib import Path

import pytest

from gefa.core.plan import plan_text
from gefa.folder import plan_file
from gefa.folder.plan_file import PlanFile
from gefa.folder.site_folder import SiteFolder
from gefa.store.plans import change_shared, shared_plan
from gefa.store.store import Store

BEFORE = 'out = "img" # here\n'
AFTER = 'out = "other" # here\n'


@pytest.fixture
def site(tmp_path: Path) -> SiteFolder:
    (tmp_path / "gefa.toml").write_text(BEFORE)
    store = Store(tmp_path / "data")
    found = SiteFolder(store, tmp_path, lambda: None)
    found.turn()
    return found


def follow(site: SiteFolder) -> None:
    """Two turns: a file that was saved since the last one is read by the second."""
    site.turn()
    site.turn()


def out_of(site: SiteFolder) -> str | None:
    assert site.out
    return site.out.name


def test_what_is_saved_just_after_a_look_is_found_by_the_next(
    site: SiteFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    look = PlanFile.follow

    def saved_after(file: PlanFile) -> bool:
        found = look(file)
        file.path.write_text(AFTER)
        return found

    site.plan_file.path.write_text(BEFORE + "\n")
    with monkeypatch.context() as patched:
        patched.setattr(PlanFile, "follow", saved_after)
        follow(site)
    assert out_of(site) == "img"
    follow(site)
    assert out_of(site) == "other"


def test_a_save_during_a_write_is_not_overwritten(
    site: SiteFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    def saved_meanwhile(*asked: object) -> str:
        site.plan_file.path.write_text(AFTER)
        return plan_text.rewritten(*asked)  # type: ignore[arg-type]

    with site._store.changing() as session:
        plan = shared_plan(session).model_copy(update={"out": "screens"})
        change_shared(session, plan, "another folder")
    with monkeypatch.context() as patched:
        patched.setattr(plan_file, "rewritten", saved_meanwhile)
        site.turn()
    assert site.plan_file.path.read_text() == AFTER
    follow(site)
    assert site.plan_file.state.both
    assert site.plan_file.path.read_text() == AFTER


@pytest.mark.parametrize("begun", ["", 'out = "o'])
def test_a_file_that_is_being_saved_is_read_when_it_is_whole(site: SiteFolder, begun: str) -> None:
    site.plan_file.path.write_text(begun)
    site.turn()
    assert out_of(site) == "img"
    assert not site.plan_file.state.problem
    site.plan_file.path.write_text(AFTER)
    site.turn()
    assert out_of(site) == "img"
    site.turn()
    assert out_of(site) == "other"
