"""The command line, as people call it."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
from pathlib import Path

import pytest

from gefa.cli.build import print_remarks
from gefa.core.cut.cut import Remark
from gefa.core.deliver.manifest import Manifest
from tests.make import BLUE, G, L, flat, ora, photo, svg


def gefa(*arguments: object, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "gefa", *map(str, arguments)],
        capture_output=True,
        text=True,
        cwd=cwd,
        timeout=240,
    )


def manifest(out: Path) -> Manifest:
    return Manifest.model_validate_json((out / "manifest.json").read_text())


def design(path: Path, colour: tuple[int, int, int] = (9, 9, 9)) -> Path:
    layers = [
        L("Hero #backdrop", photo(300, 120), 10, 10),
        G(
            "Icons",
            [L("One #icon", flat(60, 60, colour)), L("Two #icon", flat(50, 50, BLUE), 70, 70)],
        ),
    ]
    return ora(path, 320, 200, layers)


def test_an_export_makes_files_markup_and_a_manifest(tmp_path: Path) -> None:
    out = tmp_path / "out"
    done = gefa("export", design(tmp_path / "d.ora"), "--out", out)
    assert done.returncode == 0, done.stderr
    found = manifest(out)
    assert found.sources == ["d.ora"]
    assert [cut.name for cut in found.cuts] == ["Hero", "One", "Two"]
    assert {file.path for file in found.files} == {
        str(path.relative_to(out))
        for path in out.rglob("*")
        if path.is_file() and path.name != "manifest.json" and ".gefa" not in path.parts
    }
    assert "13 made, 0 reused" not in done.stdout or len(found.files) == 13
    for file in found.files:
        assert stat.S_IMODE((out / file.path).stat().st_mode) == 0o644
    assert not list(out.rglob("*.part"))


def test_a_second_export_encodes_nothing_and_a_change_only_its_own_cut(tmp_path: Path) -> None:
    out = tmp_path / "out"
    source = design(tmp_path / "d.ora")
    assert gefa("export", source, "--out", out).returncode == 0
    times = {
        path: path.stat().st_mtime_ns for path in out.glob("*.*p*") if path.name != "manifest.json"
    }
    assert gefa("export", source, "--out", out).returncode == 0
    assert all(file.reused for file in manifest(out).files)
    assert all(path.stat().st_mtime_ns == time for path, time in times.items())

    design(source, (200, 0, 0))
    assert gefa("export", source, "--out", out).returncode == 0
    made = {file.cut for file in manifest(out).files if not file.reused}
    assert made == {"One"}

    assert gefa("export", source, "--out", out, "--force").returncode == 0
    assert not any(file.reused for file in manifest(out).files)


def test_a_cut_that_is_gone_is_dropped_and_said(tmp_path: Path) -> None:
    out = tmp_path / "out"
    source = design(tmp_path / "d.ora")
    gefa("export", source, "--out", out)
    (out / "mine.txt").write_text("not Gefa's")
    ora(source, 320, 200, [L("Hero #backdrop", photo(300, 120), 10, 10)])
    done = gefa("export", source, "--out", out)
    assert done.returncode == 0
    assert {remark.cut for remark in manifest(out).dropped} == {"One", "Two"}
    assert not list(out.glob("One*"))
    assert (out / "mine.txt").exists()
    assert "dropped: One" in done.stderr


def test_a_folder_can_hold_several_sources_and_none_overwrites_another(tmp_path: Path) -> None:
    out = tmp_path / "out"
    for folder, seed in (("a", 1), ("b", 2)):
        (tmp_path / folder).mkdir()
        photo(90, 60, seed).jpegsave(str(tmp_path / folder / "sea.jpg"))
    done = gefa("export", tmp_path / "a" / "sea.jpg", tmp_path / "b" / "sea.jpg", "--out", out)
    assert done.returncode == 0, done.stderr
    both = manifest(out)
    assert len(both.sources) == 2
    paths = [file.path for file in both.files]
    assert len(set(paths)) == len(paths) >= 4
    shas = {file.sha256 for file in both.files if file.format == "jpeg"}
    assert len(shas) == 2

    photo(50, 50, 3).pngsave(str(tmp_path / "sea.png"))
    assert gefa("export", tmp_path / "sea.png", "--out", out).returncode == 0
    later = manifest(out)
    assert set(paths) < {file.path for file in later.files}
    assert all((out / file.path).is_file() for file in later.files)
    assert not later.dropped


def test_a_bad_source_costs_no_other(tmp_path: Path) -> None:
    bad = tmp_path / "bad.png"
    bad.write_bytes(photo(200, 200).pngsave_buffer()[:5000])
    photo(90, 60).jpegsave(str(tmp_path / "good.jpg"))
    out = tmp_path / "out"
    done = gefa("export", bad, tmp_path / "missing.svg", tmp_path / "good.jpg", "--out", out)
    assert done.returncode == 1
    found = manifest(out)
    assert {cut.name for cut in found.cuts} == {"good"}
    reasons = {remark.source: remark.reason for remark in found.failed}
    assert "ends early" in reasons["bad.png"]
    assert "No such file" in reasons["missing.svg"]
    assert "failed: missing.svg" in done.stderr
    assert done.stderr.count("missing.svg") == 1


def test_an_earlier_result_outlives_a_failure(tmp_path: Path) -> None:
    out = tmp_path / "out"
    source = tmp_path / "sea.jpg"
    photo(90, 60).jpegsave(str(source))
    gefa("export", source, "--out", out)
    files = sorted(path.name for path in out.glob("sea*"))
    source.write_bytes(source.read_bytes()[:600])
    assert gefa("export", source, "--out", out).returncode == 1
    assert sorted(path.name for path in out.glob("sea*")) == files
    assert not manifest(out).dropped


def test_a_plan_says_what_is_made(tmp_path: Path) -> None:
    plan = tmp_path / "gefa.toml"
    plan.write_text(
        '[recipes.tiny]\nformats = ["webp"]\nwidths = [20]\nname = "{source}/{cut}@{width}.{ext}"\n'
        '[[cuts]]\npart = "Icons"\nrecipe = "tiny"\nname = "all icons"\n'
        '[[cuts]]\npart = "Hero"\nleave_out = true\n'
        '[[rules]]\nparts = "Nothing/*"\nrecipe = "icon"\n'
    )
    out = tmp_path / "out"
    done = gefa("export", design(tmp_path / "d.ora"), "--plan", plan, "--out", out)
    assert done.returncode == 0, done.stderr
    assert {file.path for file in manifest(out).files if file.cut == "all-icons"} == {
        "d/all-icons-20.webp"
    }
    assert "Hero" not in {cut.name for cut in manifest(out).cuts}


@pytest.mark.parametrize(
    ("arguments", "word"),
    [
        (["export", "x.svg"], "--out"),
        (["export", "--out", "o"], "no gefa.toml here or above"),
        (["export", "x.svg", "--out", "o", "--plan", "none.toml"], "none.toml"),
        (["export", "x.svg", "--out", "o", "--jobs", "0"], "--jobs"),
        (["nonsense"], "nonsense"),
    ],
)
def test_wrong_usage_ends_with_2(tmp_path: Path, arguments: list[str], word: str) -> None:
    done = gefa(*arguments, cwd=tmp_path)
    assert done.returncode == 2
    assert word in done.stderr


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_folder_that_cannot_be_written_is_wrong_usage(tmp_path: Path) -> None:
    (tmp_path / "locked").mkdir(mode=0o500)
    assert gefa("export", "x.svg", "--out", tmp_path / "locked" / "out").returncode == 2


def test_a_file_in_the_place_of_the_folder_is_wrong_usage(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("")
    done = gefa("export", "x.svg", "--out", tmp_path / "file")
    assert done.returncode == 2
    assert "--out" in done.stderr


def test_parts_are_listed_for_people_and_for_programs(tmp_path: Path) -> None:
    source = svg(
        tmp_path / "d.svg",
        '<g id="Flag"><title>Flag #icon</title><rect id="r" width="9" height="9"/></g>',
    )
    plain = gefa("parts", source)
    assert plain.returncode == 0
    assert "#icon" in plain.stdout
    assert "9 × 9 at 0, 0" in plain.stdout
    found = json.loads(gefa("parts", source, "--json").stdout)
    assert [part["path"] for part in found["parts"]] == ["/", "Flag", "Flag/r"]
    assert found["parts"][1]["extent"] == {"x": 0, "y": 0, "width": 9, "height": 9}
    missing = gefa("parts", tmp_path / "none.svg")
    assert missing.returncode == 1
    assert "none.svg" in missing.stderr


def test_odd_names_are_made_safe_and_kept_apart(tmp_path: Path) -> None:
    odd = [
        "../../up #icon",
        "CON #icon",
        "con #icon",
        "風 #icon",
        "a/b #icon",
        "x" * 290 + " #icon",
        "A B #icon",
        "a-b #icon",
    ]
    layers = [L(name, flat(60, 60, (20 * i, 9, 9))) for i, name in enumerate(odd)]
    out = tmp_path / "out"
    done = gefa("export", ora(tmp_path / "odd.ora", 60, 60, layers), "--out", out)
    assert done.returncode == 0, done.stderr
    found = manifest(out)
    assert len(found.cuts) == len(odd)
    folded = {file.path.casefold() for file in found.files}
    assert len(folded) == len(found.files)
    for file in found.files:
        assert (out / file.path).resolve().is_relative_to(out.resolve())
        assert file.path.isascii()
    assert not (tmp_path / "up-48.webp").exists()


def test_a_thousand_remarks_are_not_printed_one_by_one(capsys: pytest.CaptureFixture[str]) -> None:
    remarks = [Remark(cut=f"c{number}", reason="is left out") for number in range(1000)]
    print_remarks("left out", remarks, several=True)
    said = capsys.readouterr().err.splitlines()
    assert (len(said), said[-1]) == (41, "left out: 960 more; --json lists all")
    print_remarks("failed", remarks, several=True)
    assert len(capsys.readouterr().err.splitlines()) == 1000, "what failed is told in full"
