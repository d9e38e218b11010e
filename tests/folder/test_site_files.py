"""A site in a repository: found by its plan, exported whole or in part, checked, begun."""

from __future__ import annotations

import json
import os
import random
import shutil
from collections.abc import Iterator
from pathlib import Path
from xml.etree import ElementTree

import pytest

from gefa.core.deliver.manifest import Manifest
from gefa.core.errors import PlanError
from gefa.core.plan.load import load_plan, parse_plan
from gefa.core.plan.plan import Plan
from gefa.folder.check import Checked, Fault, check
from gefa.folder.dry_run import Forecast, forecast
from gefa.folder.export import Exporter
from gefa.folder.site_files import (
    SiteFile,
    files_below,
    named,
    plan_above,
    refuse_unknown_sources,
    site_files,
    unmatched,
)
from gefa.folder.starter import write_starter
from gefa.work.pool import Pool
from tests.make import G, L, dot, flat, ora, photo
from tests.test_cli import gefa

SITE = """
out = "public/img"

[recipes.tiny]
formats = ["webp", "png"]
widths  = [20, 40]
every_format = true

[[sources]]
files  = ["photos/**/*.jpg"]
recipe = "tiny"

[[sources]]
files  = "designs/*.ora"
folder = "art"
"""


@pytest.fixture(scope="module")
def pool() -> Iterator[Pool]:
    with Pool(2) as opened:
        yield opened


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    """Two designs that each have a Badge, three photographs, two of one name, and a plan."""
    for folder in ("designs", "photos/may", "photos/june", "public"):
        (tmp_path / folder).mkdir(parents=True)
    for number, name in enumerate(("poster", "sheet")):
        layers = [
            G("Icons", [L("Badge #tiny", dot(60, 50, (5, 5, 40, 40), (9 * number, 80, 90)), 3, 3)]),
            L(f"Only {name} #tiny", flat(60, 40), 0, 8),
        ]
        ora(tmp_path / "designs" / f"{name}.ora", 70, 60, layers)
    for number, place in enumerate(("shore.jpg", "may/kite.jpg", "june/kite.jpg")):
        photo(90, 60, number).jpegsave(str(tmp_path / "photos" / place))
    (tmp_path / "gefa.toml").write_text(SITE)
    return tmp_path


class Desk:
    """A repository with one pool of processes."""

    def __init__(self, folder: Path, pool: Pool) -> None:
        self.folder, self.pool = folder, pool

    @property
    def plan_file(self) -> Path:
        return self.folder / "gefa.toml"

    @property
    def plan(self) -> Plan:
        return load_plan(self.plan_file)

    @property
    def out(self) -> Path:
        return self.folder / "public" / "img"

    def files(self) -> list[SiteFile]:
        return site_files(self.plan, self.folder, self.out)

    def export(self, files: list[SiteFile] | None = None, whole: bool = True) -> Manifest:
        exporter = Exporter(self.pool, self.out, marks=self.folder)
        return exporter.export(
            files if files is not None else self.files(),
            self.plan,
            plan_file=self.plan_file if whole else None,
        ).manifest

    def check(self) -> Checked:
        return check(
            self.pool,
            self.files(),
            self.plan,
            self.out,
            marks=self.folder,
            plan_file=self.plan_file,
        )

    def forecast(self, *, weigh: bool = False) -> Forecast:
        return forecast(
            self.pool,
            self.files(),
            self.plan,
            self.out,
            marks=self.folder,
            plan_file=self.plan_file,
            weigh=weigh,
        )

    def written(self) -> dict[str, bytes]:
        return {
            str(path.relative_to(self.out)): path.read_bytes()
            for path in self.out.rglob("*")
            if path.is_file() and ".gefa" not in path.parts and path.name != "manifest.json"
        }


@pytest.fixture
def desk(repository: Path, pool: Pool) -> Desk:
    return Desk(repository, pool)


def faults(found: Checked) -> list[tuple[str, str]]:
    return [(one.fault.value, one.path or one.cut) for one in found.findings]


# -- finding ----------------------------------------------------------------------------------


def test_the_nearest_plan_is_found_upwards(repository: Path) -> None:
    assert plan_above(repository / "photos" / "may") == (repository / "gefa.toml").resolve()
    assert plan_above(Path("/")) is None


def test_the_sources_of_a_site_are_what_its_plan_names(desk: Desk) -> None:
    photo(20, 20).pngsave(str(desk.folder / "photos" / "no-jpg.png"))
    assert [file.name for file in desk.files()] == [
        "designs/poster.ora",
        "designs/sheet.ora",
        "photos/june/kite.jpg",
        "photos/may/kite.jpg",
        "photos/shore.jpg",
    ]


def test_without_sources_in_the_plan_all_there_is_counts(tmp_path: Path) -> None:
    for place in (
        "a.png",
        "deep/er/b.jpg",
        ".git/c.png",
        "node_modules/d.png",
        "out/e.png",
        "f.txt",
    ):
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / place).write_bytes(b"x")
    (tmp_path / "link.png").symlink_to(tmp_path / "a.png")
    (tmp_path / "loop").symlink_to(tmp_path)
    with pytest.raises(PlanError, match="holds the source"):
        site_files(Plan(), tmp_path, tmp_path / "out")
    (tmp_path / "out/manifest.json").write_text(Manifest(sources=[]).to_json())
    found = site_files(Plan(), tmp_path, tmp_path / "out")
    assert [file.name for file in found] == ["a.png", "deep/er/b.jpg"]
    (tmp_path / "empty").mkdir()
    with pytest.raises(PlanError, match="no picture or design"):
        site_files(Plan(), tmp_path / "empty", tmp_path / "out")
    with pytest.raises(PlanError, match="holds the source"):
        site_files(Plan(), tmp_path, tmp_path)
    with pytest.raises(PlanError, match="match nothing"):
        site_files(parse_plan('[[sources]]\nfiles = "x/*"', "p"), tmp_path, tmp_path / "out")


def test_files_elsewhere_are_called_by_their_own_names(tmp_path: Path) -> None:
    inside, outside = tmp_path / "site" / "a" / "x.png", tmp_path / "y.png"
    found = named([inside, outside, tmp_path / "z" / "y.png"], tmp_path / "site")
    assert [(file.name, file.inside) for file in found] == [
        ("a/x.png", True),
        (str(outside), False),
        (str(tmp_path / "z" / "y.png"), False),
    ]
    assert [file.folder_by(Plan()) for file in found] == ["a", "", ""]
    assert named([inside])[0].name == "x.png"


def test_what_a_plan_says_of_nothing_is_told_with_the_closest(desk: Desk, tmp_path: Path) -> None:
    text = (
        '[[sources]]\nfiles = "photo/*.jpg"\n[[rules]]\nsources = "x.ora"\nparts = "*"\n'
        '[[cuts]]\nsource = "designs/postr.ora"\npart = "/"\n'
        '[[slices]]\nsource = "photos/shor.jpg"\nsplit = { columns = 2 }'
    )
    plan = parse_plan(text, "p")
    told = [remark.reason for remark in unmatched(plan, desk.files())]
    assert told[0] == "[[sources]] 'photo/*.jpg' matches no file. The closest is 'photos/shore.jpg'"
    assert told[1].startswith("the rule '*' is for the sources 'x.ora': there is none")
    (tmp_path / "p").write_text(text)
    with pytest.raises(PlanError) as caught:
        refuse_unknown_sources(plan, desk.files(), tmp_path / "p")
    said = str(caught.value)
    assert "line 7: cuts[0].source: there is no source 'designs/postr.ora'" in said
    assert "did you mean 'designs/poster.ora'?" in said
    assert "line 10: slices[0].source: there is no source 'photos/shor.jpg'" in said


# -- exporting --------------------------------------------------------------------------------


def test_a_site_is_exported_whole_with_folders_and_names_of_its_own(desk: Desk) -> None:
    manifest = desk.export()
    assert manifest.failed == []
    names = {cut.name: cut.source for cut in manifest.cuts}
    assert names == {
        "art/poster-Badge": "designs/poster.ora",
        "art/Only-poster": "designs/poster.ora",
        "art/sheet-Badge": "designs/sheet.ora",
        "art/Only-sheet": "designs/sheet.ora",
        "photos/june/kite": "photos/june/kite.jpg",
        "photos/may/kite": "photos/may/kite.jpg",
        "photos/shore": "photos/shore.jpg",
    }
    assert {file.path for file in manifest.files} == set(desk.written())
    assert "photos/may/kite-20.webp" in desk.written()
    told = [remark.reason for remark in manifest.warnings if "is called" in remark.reason]
    assert len(told) == 2
    assert {file.source for file in manifest.files} == set(manifest.sources)


def test_any_order_gives_the_same_names_and_bytes(desk: Desk, tmp_path: Path) -> None:
    desk.export()
    expected = desk.written()
    shutil.rmtree(desk.out)
    files = desk.files()
    random.Random(4).shuffle(files)
    desk.export(files)
    assert desk.written() == expected
    # One after the other, in either order, they end up with the same names too.
    for order in (files, files[::-1]):
        shutil.rmtree(desk.out)
        for _ in range(2):
            for file in order:
                desk.export([file], whole=False)
        assert desk.written() == expected


def test_only_what_was_exported_again_is_dropped(desk: Desk) -> None:
    desk.export()
    (desk.folder / "photos" / "shore.jpg").unlink()
    part = desk.export([file for file in desk.files() if "sheet" in file.name], whole=False)
    assert part.dropped == []
    assert "photos/shore-20.webp" in desk.written()
    whole = desk.export()
    assert {remark.reason.split()[0] for remark in whole.dropped} == {
        f"photos/shore-{width}.{ending}" for width in (20, 40) for ending in ("webp", "png")
    }
    assert "photos/shore.jpg" not in whole.sources
    assert not any("shore" in path for path in desk.written())
    assert all(file.reused for file in whole.files)
    shutil.rmtree(desk.folder / "photos" / "may")
    desk.export()
    assert not (desk.out / "photos" / "may").exists()


def test_a_source_that_cannot_be_read_loses_nothing_and_costs_no_other(desk: Desk) -> None:
    desk.export()
    before = desk.written()
    (desk.folder / "photos" / "shore.jpg").write_bytes(b"\xff\xd8\xff broken")
    manifest = desk.export()
    assert [remark.cut for remark in manifest.failed] == ["photos/shore.jpg"]
    assert desk.written() == before


def test_a_manifest_from_elsewhere_deletes_nothing_outside(desk: Desk) -> None:
    manifest = desk.export()
    precious = desk.folder / "public" / "index.html"
    precious.write_text("the site")
    told = json.loads(manifest.to_json())
    told["files"][0]["path"] = "../index.html"
    (desk.out / "manifest.json").write_text(json.dumps(told))
    desk.export()
    assert precious.read_text() == "the site"


# -- dry runs and checks -----------------------------------------------------------------------


def test_a_dry_run_says_what_would_be_done_and_writes_nothing(desk: Desk) -> None:
    told = desk.forecast()
    # That a photograph gets no PNG is seen in its pixels.
    assert (told.made, told.reused, told.dropped, told.about) == (28, 0, [], True)
    assert (told.expected, told.folders) == (None, {})
    told = desk.forecast(weigh=True)
    assert (told.made, told.reused, told.dropped) == (20, 0, [])
    assert set(told.folders) == {"art", "photos", "photos/may", "photos/june"}
    assert not desk.out.exists()
    made = desk.export()
    (desk.folder / "photos" / "shore.jpg").unlink()
    before = {path: path.stat().st_mtime_ns for path in desk.out.rglob("*")}
    told = desk.forecast(weigh=True)
    assert (told.made, told.reused, len(told.dropped)) == (0, 16, 4)
    assert told.expected == sum(f.bytes for f in made.files if f.source != "photos/shore.jpg")
    assert {path: path.stat().st_mtime_ns for path in desk.out.rglob("*")} == before


def test_a_check_finds_what_is_missing_stale_foreign_and_damaged(desk: Desk) -> None:
    assert {fault for fault, _ in faults(desk.check())} == {"stale"}
    desk.export()
    assert desk.check().findings == []
    (desk.out / "art" / "Only-poster-40.png").unlink()
    damaged = desk.out / "photos" / "shore-40.webp"
    damaged.write_bytes(bytes(byte ^ 1 for byte in damaged.read_bytes()))
    (desk.out / "hand-made.svg").write_text("<svg/>")
    photo(90, 60, 9).jpegsave(str(desk.folder / "photos" / "may" / "kite.jpg"))
    assert sorted(faults(desk.check())) == [
        ("damaged", "photos/shore-40.webp"),
        ("foreign", "hand-made.svg"),
        ("missing", "art/Only-poster-40.png"),
        ("stale", "photos/may/kite"),
    ]
    desk.export()
    assert faults(desk.check()) == [("foreign", "hand-made.svg")]
    (desk.folder / "photos" / "shore.jpg").unlink()
    gone = [path for fault, path in faults(desk.check()) if fault == "stale"]
    assert len(gone) == 4
    assert all("shore" in path for path in gone)


def test_a_check_of_a_fresh_checkout_needs_no_times(desk: Desk, tmp_path: Path) -> None:
    desk.export()
    for path in desk.folder.rglob("*"):
        os.utime(path, (1_000_000, 1_000_000))
    assert desk.check().findings == []


def test_a_plan_names_which_warnings_and_weights_are_errors(desk: Desk) -> None:
    desk.export()
    file = desk.folder / "gefa.toml"
    file.write_text(
        SITE
        + '[check]\nerrors = ["since another cut is called"]\nmax_file_bytes = 300\nmax_bytes = 1000'
    )
    found = desk.check()
    assert {fault for fault, _ in faults(found)} == {"warning", "budget"}
    warned = [one for one in found.findings if one.fault is Fault.WARNING]
    assert sorted(one.cut for one in warned) == ["art/poster-Badge", "art/sheet-Badge"]
    assert any(one.reason.startswith("all files weigh") for one in found.findings)
    suite = ElementTree.fromstring(found.to_junit())
    assert suite.get("failures") == str(len(found.findings))
    assert {case[0].get("type") for case in suite} == {"warning", "budget"}


# -- the commands -----------------------------------------------------------------------------


def test_the_commands_of_a_repository(repository: Path) -> None:
    (repository / "gefa.toml").unlink()
    assert gefa("export", cwd=repository).returncode == 2
    begun = gefa("init", cwd=repository)
    assert begun.returncode == 0, begun.stderr
    assert "for 2 designs and 3 pictures" in begun.stdout
    plan = load_plan(repository / "gefa.toml")
    assert plan.out == "public/img"
    assert [entry.files for entry in plan.sources] == [("photos/**/*.jpg",), ("designs/**/*.ora",)]
    assert "is there already" in gefa("init", cwd=repository).stderr
    (repository / "gefa.toml").write_text(SITE)
    deep = repository / "photos" / "may"
    dry = json.loads(gefa("export", "--dry-run", "--json", cwd=deep).stdout)
    assert (dry["made"], dry["reused"], dry["about"], dry["expected"]) == (28, 0, True, None)
    weighed = gefa("export", "--dry-run", "--weights", cwd=deep)
    assert "20 to make, 0 to reuse, 0 to drop: about" in weighed.stdout
    refused = gefa("export", "--weights", cwd=deep)
    assert (refused.returncode, "Add --dry-run" in refused.stderr) == (2, True)
    assert gefa("check", cwd=deep).returncode == 1
    done = gefa("export", "--json", cwd=deep)
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert (told["sources"], told["made"], told["files"]) == (5, 20, 20)
    assert set(told["formats"]) == {"webp", "png"}
    assert told["folders"]["art"]["files"] == 8
    checked = gefa("check", cwd=repository)
    assert (checked.returncode, checked.stdout.split(":")[0]) == (0, "up to date")
    # One folder, by the same plan.
    one = gefa("export", "designs", cwd=repository)
    assert "0 made, 8 reused, 0 dropped, 0 failed: 8 files" in one.stdout
    (repository / "public" / "img" / "art" / "Only-poster-40.png").unlink()
    broken = gefa("check", "--format", "json", cwd=repository)
    assert broken.returncode == 1
    assert [one["fault"] for one in json.loads(broken.stdout)["findings"]] == ["missing"]


def test_a_folder_without_a_plan_keeps_its_folders(repository: Path, tmp_path: Path) -> None:
    (repository / "gefa.toml").unlink()
    done = gefa("export", "photos", "--out", tmp_path / "elsewhere", cwd=repository)
    assert done.returncode == 0, done.stderr
    made = Manifest.model_validate_json((tmp_path / "elsewhere" / "manifest.json").read_text())
    assert made.sources == ["june/kite.jpg", "may/kite.jpg", "shore.jpg"]
    assert list((tmp_path / "elsewhere" / "may").glob("kite-90.*"))
    assert "holds no picture" in gefa("export", "public", "--out", "x", cwd=repository).stderr


def test_a_starter_for_an_odd_folder_can_be_read(tmp_path: Path) -> None:
    odd = tmp_path / 'a "b" #c'
    odd.mkdir()
    (odd / "x.PNG").write_bytes(b"x")
    (tmp_path / "logo.svg").write_text("<svg/>")
    file, told = write_starter(tmp_path)
    assert told == "for 1 design and 1 picture"
    found = site_files(load_plan(file), tmp_path, tmp_path / "img")
    assert [one.name for one in found] == ['a "b" #c/x.PNG', "logo.svg"]
    assert list(files_below(tmp_path / "none")) == []
