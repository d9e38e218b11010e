"""Names: of all cuts of a run at once, whatever their order."""

from __future__ import annotations

import re
from itertools import permutations
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.cut.cut import Cut, Origin
from gefa.core.geometry import Rect
from gefa.core.make.job import CutJob, PlannedVariant
from gefa.core.make.naming import CLASH, name_all, wanted_paths
from gefa.core.make.prepare import expand, give_names, prepare
from gefa.core.make.stems import stems
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.survey import survey
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Recipe
from tests.make import G, L, dot, ora

SAFE = re.compile(r"[A-Za-z0-9][\w-]*(\.\w+)?")


def job(
    source: str,
    part: str,
    name: str = "",
    folder: str = "",
    template: str = "{cut}-{width}.{ext}",
    widths: tuple[int, ...] = (40,),
    format: Format = Format.WEBP,
) -> CutJob:
    recipe = Recipe(formats=(format,), widths=(40,), name="{cut}.{ext}")
    name = name or part.rpartition("/")[2]
    return CutJob(
        source=source,
        cut=Cut(part=part, name=name, recipe="r", origin=Origin.TAG, folder=folder),
        recipe=recipe.model_copy(update={"name": template}),
        extent=Rect(0, 0, 100, 100),
        fingerprint="",
        variants=tuple(
            PlannedVariant(key="0" * 40, format=format, width=w, height=w, quality=None)
            for w in widths
        ),
    )


def names(*jobs: CutJob, taken: tuple[str, ...] = ()) -> list[str]:
    return [named.cut.name for named in name_all(jobs, taken=taken)[0]]


def paths(*jobs: CutJob) -> list[str]:
    return [v.path for named in name_all(jobs)[0] for v in named.variants]


def test_a_cut_is_called_what_it_wants() -> None:
    assert names(job("a.ora", "Sky/Red kite")) == ["Red-kite"]
    assert paths(job("a.ora", "Sky/Kite", folder="art/Old ones", widths=(20, 40))) == [
        "art/Old-ones/Kite-20.webp",
        "art/Old-ones/Kite-40.webp",
    ]


def test_two_of_one_name_both_get_their_source_in_front() -> None:
    poster, sheet = job("designs/poster.ora", "Badge"), job("designs/sheet.svg", "Icons/badge")
    assert names(poster, sheet) == ["poster-Badge", "sheet-badge"]
    assert names(poster) == ["Badge"]
    told = name_all([poster, sheet])[2]
    assert [remark.source for remark in told] == ["designs/poster.ora", "designs/sheet.svg"]
    assert "is called poster-Badge, since another cut is called Badge too" in told[0].reason
    apart = [one.cut.model_copy(update={"folder": f}) for one, f in ((poster, "a"), (sheet, "b"))]
    assert names(*(j.model_copy(update={"cut": c}) for j, c in zip((poster, sheet), apart))) == [  # noqa: B905
        "a/Badge",
        "b/badge",
    ]


def test_twins_of_one_source_take_the_path_of_their_part_in() -> None:
    near = [job("a.ora", "Kites/Near"), job("a.ora", "Shore/Near"), job("a.ora", "Kites/Near~2")]
    near[2] = near[2].model_copy(update={"cut": near[2].cut.model_copy(update={"name": "Near"})})
    assert names(*near) == ["Kites-Near", "Shore-Near", "Kites-Near-2"]
    other = job("b.ora", "Near")
    assert names(*near, other) == ["a-Kites-Near", "a-Shore-Near", "a-Kites-Near-2", "b-Near"]


def test_what_another_source_has_or_wants_is_left_to_it() -> None:
    assert names(job("a.ora", "Badge"), taken=("Badge-40.webp",)) == ["a-Badge"]
    # One after the other, in any order, they end up with the same names.
    a, b = job("a.ora", "Badge"), job("b.ora", "Badge")
    assert names(a, taken=tuple(wanted_paths([b]))) == ["a-Badge"]
    assert names(b, taken=tuple(wanted_paths([a]))) == ["b-Badge"]


def test_a_template_without_a_cut_is_told_and_gets_one() -> None:
    jobs = [job("a.ora", part, template="{source}-{width}.{ext}") for part in ("One", "Two")]
    assert paths(*jobs) == ["a-40-One.webp", "a-40-Two.webp"]
    assert all(CLASH in remark.reason for remark in name_all(jobs)[2])
    sized = job("a.ora", "One", template="{cut}.{ext}", widths=(20, 40))
    assert paths(sized) == ["One-20x20.webp", "One-40x40.webp"]
    assert "their sizes are put behind it" in name_all([sized])[2][0].reason


TEMPLATES = [
    "{cut}-{width}.{ext}",
    "{source}-{cut}.{ext}",
    "{source}/{cut}.{ext}",
    "../{cut}.{ext}",
    "{format}",
    "{cut}.x",
]
JOBS = st.lists(
    st.builds(
        job,
        st.sampled_from(["a.ora", "b.ora", "x/a.ora", "a.svg", "z" * 100 + ".ora"]),
        st.sampled_from(["Kite", "kite", "Sky/Kite", "Sky/Kite~2", "../..", "/", "a-Kite", "凧"]),
        st.sampled_from(["", "Kite", "KITE", "kité", "..", "manifest", "x" * 90, "x" * 90 + "y"]),
        st.sampled_from(["", "art", "Art", "../x", "a b"]),
        st.sampled_from(TEMPLATES),
        st.sampled_from([(40,), (20, 40)]),
        st.sampled_from([Format.WEBP, Format.PNG]),
    ),
    max_size=9,
)


@given(JOBS)
def test_no_two_cuts_or_files_are_called_the_same_and_none_leaves_the_folder(
    jobs: list[CutJob],
) -> None:
    distinct = list({(j.source, j.cut.part, j.cut.name, j.cut.folder): j for j in jobs}.values())
    named, _, _ = name_all(distinct)
    ids = [one.cut.name.casefold() for one in named]
    assert len(set(ids)) == len(ids)
    written = [variant.path for one in named for variant in one.variants]
    assert len({path.casefold() for path in written}) == len(written)
    for path in written:
        assert not path.startswith("/")
        assert all(SAFE.fullmatch(level) for level in path.split("/")), path


@given(JOBS, st.randoms())
def test_names_do_not_depend_on_order(jobs: list[CutJob], chance: object) -> None:
    distinct = list({(j.source, j.cut.part, j.cut.name, j.cut.folder): j for j in jobs}.values())
    numbers = list(range(len(distinct)))
    chance.shuffle(numbers)  # type: ignore[attr-defined]
    straight = name_all(distinct)[0]
    mixed = name_all([distinct[number] for number in numbers])[0]
    assert [straight[number] for number in numbers] == mixed


def test_a_run_of_two_designs_has_the_same_files_in_any_order(tmp_path: Path) -> None:
    surveys = []
    for name in ("poster", "sheet"):
        layers = [
            G("Icons", [L("Badge #icon", dot(40, 40, (0, 0, 40, 40)))]),
            L(f"Only {name} #icon", dot(60, 40, (0, 0, 50, 30))),
        ]
        surveys.append(survey(read(ora(tmp_path / f"{name}.ora", 60, 40, layers))))
    found = set()
    for order in permutations(surveys):
        run = [expand(each, Plan(), folder="art") for each in order]
        give_names(run)
        found.add(tuple(sorted(v.path for p in run for job in p.jobs for v in job.variants)))
        assert sorted(r.cut for p in run for r in p.warnings) == [
            "art/poster-Badge",
            "art/sheet-Badge",
        ]
    (files,) = found
    assert "art/poster-Badge-40.webp" in files
    assert "art/Only-sheet-50.webp" in files
    assert [job.cut.name for job in prepare(surveys[0], Plan()).jobs] == ["Badge", "Only-poster"]


@pytest.mark.parametrize("count", [1, 300])
def test_hundreds_of_twins_are_named_at_once(count: int) -> None:
    jobs = [job(f"{n}/photo.jpg", "/", "photo") for n in range(count)]
    assert len(set(names(*jobs))) == count


def test_files_that_differ_in_their_endings_get_these_in_their_names() -> None:
    names = ["img/huge.jpg", "img/huge.png", "huge.jpg", "a/Portrait.jpg", "a/portrait.jpg"]
    assert stems(names) == {
        "img/huge.jpg": "huge-jpg",
        "img/huge.png": "huge-png",
        "a/Portrait.jpg": "Portrait-1",
        "a/portrait.jpg": "portrait-2",
    }
    assert stems([*names[:2], "img/HUGE.png", "img/hu.ge"]) == {
        "img/HUGE.png": "HUGE-png-1",
        "img/huge.jpg": "huge-jpg",
        "img/huge.png": "huge-png-2",
    }
    assert stems(["Kran #3.jpg", "Kran-3.jpg", "Kran"]) == {
        "Kran #3.jpg": "Kran #3-1",
        "Kran-3.jpg": "Kran-3-2",
    }


def test_pictures_of_one_name_from_two_folders_get_these_in_front() -> None:
    assert names(job("a/x.jpg", "/", "x"), job("b/x.jpg", "/", "x")) == ["a-x", "b-x"]
