"""Sources, and files that Gefa did not make, keep their bytes whatever is exported where."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from gefa.cli.build import files_for, site_for
from gefa.core.deliver.manifest import MANIFEST, Manifest
from gefa.core.errors import GefaError
from gefa.folder.export import Exporter, ExportListener
from gefa.work.pool import Pool
from tests.make import photo

PLAN = """
{out}
default = "small"
{sources}
[recipes.small]
formats = ["webp", "png"]
quality = {{ webp = 50 }}
widths = [{width}]
name = "{name}"
"""
FOLDERS = ("photos", "art", "img", "img/photos", "web")
FILES = ("a.png", "A.png", "a-4.webp", "a.webp", "b.png", "manifest.json", "small/sprite.svg")


@pytest.fixture(scope="module")
def pool() -> Iterator[Pool]:
    with Pool(1) as opened:
        yield opened


class Stop(Exception):
    """Somebody pressed Ctrl-C."""


@dataclass
class Tree:
    """A site's folder, and the bytes of everything in it that Gefa did not make."""

    base: Path
    pool: Pool
    kept: dict[Path, bytes] = field(default_factory=dict)
    number: int = 0

    def put(self, folder: str, name: str) -> None:
        path = self.base / folder / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with path.open("xb") as file:
                self.number += 1
                picture = photo(8, 8, self.number).pngsave_buffer()
                file.write(picture if path.suffix != ".json" else b"{}")
        except OSError:
            return  # something lies there, or a link leads nowhere
        self.kept[path] = path.read_bytes()

    def link(self, folder: str, name: str, hard: bool, at: int) -> None:
        if not self.kept:
            return
        path, target = self.base / folder / name, sorted(self.kept)[at % len(self.kept)]
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            os.link(target, path) if hard else path.symlink_to(target)
        except OSError:
            return
        self.kept[path] = self.kept[target]

    def link_folder(self, folder: str, target: str) -> None:
        path = self.base / folder
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.symlink_to(self.base / target)
        except OSError:
            return

    def plan(self, out: str, sources: str, width: int, name: str) -> None:
        text = PLAN.format(
            out=f'out = "{out}"' if out else "",
            sources=f'[[sources]]\nfiles = "{sources}"' if sources else "",
            width=width,
            name=name,
        )
        (self.base / "gefa.toml").write_text(text)

    def export(self, named: str, out: str, stop: int, overwrite: bool) -> None:
        made = 0

        def count(cut: str, files: int) -> None:
            nonlocal made
            made += 1
            if made == stop:
                raise Stop

        sources = [path for path in self.kept if named and path.name == named and path.exists()]
        try:
            site = site_for(self.base / "gefa.toml", self.base / out if out else None)
            told = ExportListener(made=count)
            foreign = [p for p in sorted(self.kept) if p.is_relative_to(site.out)][:1]
            allowed = [p.relative_to(site.out).as_posix() for p in foreign if overwrite]
            exporter = Exporter(
                self.pool, site.out, progress=told, marks=self.base, overwrite=allowed
            )
            files = files_for(site, sources, exporter.place_for)
            for path in foreign if overwrite else []:
                if not any(path.samefile(file.path) for file in files):
                    del self.kept[path]  # somebody said that it may be replaced
            exporter.export(files, site.plan, plan_file=None if sources else site.file)
        except (GefaError, Stop):
            pass

    def check(self) -> None:
        for path, data in self.kept.items():
            assert path.exists(), f"{path} was removed"
            assert path.read_bytes() == data, f"{path} was changed"


folders, names = st.sampled_from(FOLDERS), st.sampled_from(FILES)
outs = st.sampled_from(["img", "web", ".", "photos", "art/x", "img/../photos", ".hidden", ""])
steps = st.one_of(
    st.tuples(st.just("put"), folders, names),
    st.tuples(st.just("link"), folders, names, st.booleans(), st.integers(0, 9)),
    st.tuples(st.just("link_folder"), folders, st.sampled_from([*FOLDERS, ".."])),
    st.tuples(
        st.just("plan"),
        outs,
        st.sampled_from(["", "photos/*", "**/*.png", "img/*.png"]),
        st.sampled_from([4, 8]),
        st.sampled_from(["{cut}-{width}.{ext}", "{cut}.{ext}", "photos/{cut}.{ext}"]),
    ),
    st.tuples(
        st.just("export"), st.sampled_from(["", "", "a.png", "b.png"]), outs,
        st.integers(0, 3), st.booleans(),
    ),
)  # fmt: skip


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(steps, min_size=4, max_size=14))
def test_sources_and_foreign_files_keep_their_bytes(
    tmp_path_factory: pytest.TempPathFactory, pool: Pool, todo: list[tuple[object, ...]]
) -> None:
    # A folder below: links may lead to the one above, where pytest would stumble over a loop.
    tree = Tree(tmp_path_factory.mktemp("tree") / "site", pool)
    tree.base.mkdir()
    tree.put("photos", "a.png")
    tree.plan("img", "", 4, "{cut}-{width}.{ext}")
    for name, *arguments in [*todo, ("export", "", "", 0, False)]:
        getattr(tree, str(name))(*arguments)
        tree.check()


def gefa(folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
    command = [str(Path(sys.executable).with_name("gefa")), *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, timeout=300)


def test_an_export_over_its_sources_is_refused_before_anything_is_written(tmp_path: Path) -> None:
    tree = Tree(tmp_path, None)  # type: ignore[arg-type]
    tree.put("photos", "a.png")
    tree.plan(".", "photos/*.png", 4, "{cut}.{ext}")
    said = gefa(tmp_path, "export")
    assert said.returncode == 2
    assert "is the folder of the site itself" in said.stderr
    (tmp_path / "gefa.toml").unlink()
    (tmp_path / "p.toml").write_text(PLAN.format(out="", sources="", width=4, name="{cut}.{ext}"))
    said = gefa(tmp_path, "export", "photos/a.png", "--out", ".", "--plan", "p.toml")
    assert said.returncode == 2
    assert "photos/a.png: would be written over the source" in " ".join(said.stderr.split())
    tree.check()
    assert sorted(path.name for path in tmp_path.rglob("*.webp")) == []


def test_foreign_files_are_told_and_left_and_may_be_named(tmp_path: Path) -> None:
    tree = Tree(tmp_path, None)  # type: ignore[arg-type]
    tree.put("photos", "a.png")
    tree.put("photos", "b.png")
    tree.put("img/photos", "a-4.webp")
    tree.plan("img", "photos/*.png", 4, "{cut}-{width}.{ext}")
    for dry in ((), ("--dry-run",), ()):
        said = gefa(tmp_path, "export", *dry)
        assert said.returncode == 1
        told = " ".join(said.stderr.split())
        assert "img/photos/a-4.webp exists, and Gefa did not make it" in told
        assert told.count("a-4.webp exists") == 1
    tree.check()
    assert (tmp_path / "img/photos/b-4.webp").exists()
    tree.kept.pop(tmp_path / "img/photos/a-4.webp")
    said = gefa(tmp_path, "export", "--overwrite", "img/photos/a-4.webp")
    assert said.returncode == 0, said.stderr
    assert gefa(tmp_path, "export").returncode == 0
    tree.check()


def test_a_foreign_manifest_stops_an_export_before_it_begins(tmp_path: Path) -> None:
    tree = Tree(tmp_path, None)  # type: ignore[arg-type]
    tree.put("photos", "a.png")
    tree.put("img", "manifest.json")
    tree.plan("img", "photos/*.png", 4, "{cut}-{width}.{ext}")
    said = gefa(tmp_path, "export")
    assert said.returncode == 2
    assert "is not one of Gefa's manifests" in " ".join(said.stderr.split())
    assert [p.name for p in (tmp_path / "img").iterdir()] == ["manifest.json"]
    tree.check()
    assert gefa(tmp_path, "export", "--overwrite", "img/manifest.json").returncode == 0


def test_pictures_are_exported_beside_themselves_again_and_again(tmp_path: Path) -> None:
    tree = Tree(tmp_path, None)  # type: ignore[arg-type]
    tree.put("", "a.png")
    tree.put("", "b.png")
    for reused in (0, 1):
        pictures = sorted(path.name for path in tmp_path.glob("*.*g"))
        said = gefa(tmp_path, "export", *pictures, "--out", ".")
        assert said.returncode == 0, said.stderr
        assert (" 0 reused" in said.stdout) is (reused == 0), said.stdout
        tree.check()
    manifest = Manifest.model_validate_json((tmp_path / MANIFEST).read_text())
    assert sorted(manifest.sources) == ["a.png", "b.png"]
