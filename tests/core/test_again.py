from __future__ import annotations

from pathlib import Path

import pytest

from gefa.core.cut.revisions import MatchedBy, compare, match_parts
from gefa.core.plan.carry_over import carried_over
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.read.survey import Survey, survey
from tests.make import BLUE, GREEN, RED, G, L, dot, flat, ora, photo, svg


def layers(tmp_path: Path, name: str, items: list[object]) -> Survey:
    return survey(read(ora(tmp_path / f"{name}.ora", 200, 100, items)))


def kite(colour: tuple[int, int, int] = RED) -> object:
    return dot(40, 40, (5, 5, 30, 20), colour)


@pytest.fixture
def before(tmp_path: Path) -> Survey:
    return layers(
        tmp_path,
        "before",
        [
            G("Sky", [L("Kite", kite(), 10, 10), L("Sun", dot(20, 20, (0, 0, 20, 20), GREEN))]),
            L("Dune", photo(60, 40).bandjoin(255), 90, 50),
            L("Sign", flat(30, 10, BLUE), 0, 80, {"uuid": "s-1"}),
            L("Ground", flat(200, 100, (250, 240, 230))),
        ],
    )


def test_parts_are_found_by_id_path_name_and_likeness_in_that_order(
    tmp_path: Path, before: Survey
) -> None:
    after = layers(
        tmp_path,
        "after",
        [
            L("Notice", flat(32, 11, (0, 0, 0)), 50, 60, {"uuid": "s-1"}),
            G("Air", [L("Kite", kite(), 80, 20)]),
            L("Hill", photo(60, 40, 1).bandjoin(255), 90, 50),
            L("Ground", flat(200, 100, (250, 240, 230))),
        ],
    )
    found = {again.before: (again.after, again.by) for again in match_parts(before, after)}
    assert found["Sign"] == ("Notice", MatchedBy.ID)
    assert found["Ground"] == ("Ground", MatchedBy.PATH)
    assert found["Sky/Kite"] == ("Air/Kite", MatchedBy.NAME)
    assert found["Dune"] == ("Hill", MatchedBy.LIKENESS)
    assert "Sky/Sun" not in found


def test_added_changed_moved_and_gone_are_told(tmp_path: Path, before: Survey) -> None:
    after = layers(
        tmp_path,
        "after",
        [
            L("New", flat(9, 9), 150, 0),
            G("Sky", [L("Kite", kite(BLUE), 10, 10)]),
            L("Dune", photo(60, 40).bandjoin(255), 20, 50),
            L("Sign", flat(30, 10, BLUE), 0, 80, {"uuid": "s-1"}),
            L("Ground", flat(200, 100, (250, 240, 230))),
        ],
    )
    changes = compare(before, after)
    assert (changes.added, changes.gone) == (["New"], ["Sky/Sun"])
    assert (changes.changed, changes.moved) == (["Sky/Kite"], ["Dune"])
    assert not compare(before, before).any


def test_a_drawing_that_only_moved_is_not_called_changed(tmp_path: Path) -> None:
    def drawing(x: int, colour: str) -> Survey:
        body = f'<path id="p" transform="translate({x} 20)" d="M0 0h40v30z" fill="{colour}"/>'
        return survey(read(svg(tmp_path / f"{x}{colour}.svg", body)))

    assert compare(drawing(10, "red"), drawing(60, "red")).moved == ["p"]
    assert compare(drawing(10, "red"), drawing(10, "blue")).changed == ["p"]


def test_what_a_hand_chose_follows_its_part_and_is_never_lost(
    tmp_path: Path, before: Survey
) -> None:
    after = layers(tmp_path, "after", [G("Air", [L("Kite", kite(), 80, 20)])])
    plan = Plan(cuts=(CutEntry(part="Sky/Kite", name="red"), CutEntry(part="Dune", recipe="icon")))
    carried, remarks = carried_over(plan, compare(before, after))
    first, second = plan.cuts
    assert carried.cuts == (first.model_copy(update={"part": "Air/Kite"}), second)
    assert [remark.reason for remark in remarks] == ["was 'Sky/Kite'; found again by its name"]
