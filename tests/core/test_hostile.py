"""Designs that somebody made to do harm, or that came to harm."""

from __future__ import annotations

import zipfile
from pathlib import Path

import pytest

from gefa.core.errors import SourceError
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.plan import Plan
from gefa.core.read import read
from gefa.core.read.survey import survey
from tests.make import L, flat, ora

HEAD = '<svg xmlns="http://www.w3.org/2000/svg" width="100" height="100">'

BAD_SVG = {
    "entities.svg": '<!DOCTYPE svg [<!ENTITY a "x"><!ENTITY b "&a;&a;">]>' + HEAD + "&b;</svg>",
    "external.svg": '<!DOCTYPE svg [<!ENTITY a SYSTEM "file:///etc/passwd">]>' + HEAD + "&a;</svg>",
    "cut-off.svg": HEAD + '<g id="a"><rect',
    "deep.svg": HEAD + "<g>" * 5_000 + "</g>" * 5_000 + "</svg>",
    "not-svg.svg": '<html xmlns="x"><svg/></html>',
    "nan.svg": '<svg xmlns="http://www.w3.org/2000/svg" width="NaN" height="inf" viewBox="a b c d"/>',
    "encoding.svg": f'<?xml version="1.0" encoding="no-such"?>{HEAD}</svg>',
}


@pytest.mark.parametrize("name", sorted(BAD_SVG))
def test_a_bad_drawing_gives_one_clear_error(tmp_path: Path, name: str) -> None:
    file = tmp_path / name
    file.write_text(BAD_SVG[name])
    with pytest.raises(SourceError) as caught:
        survey(read(file))
    assert caught.value.file == name
    assert len(str(caught.value)) < 400
    assert caught.value.advice


def _ora_with(tmp_path: Path, stack: str, **members: bytes) -> Path:
    file = tmp_path / "bad.ora"
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo("mimetype"), "image/openraster")
        if stack:
            archive.writestr("stack.xml", stack)
        for name, data in members.items():
            archive.writestr(name, data)
    return file


ONE = '<image w="9" h="9"><stack><layer name="a" src="a"/></stack></image>'


@pytest.mark.parametrize(
    ("stack", "members", "reason"),
    [
        ("", {}, "stack.xml"),
        ("<image", {}, "not well-formed"),
        ('<image w="9" h="9"/>', {}, "no stack"),
        ('<image w="0" h="9"><stack/></image>', {}, "no size"),
        ('<image w="1000000" h="9"><stack/></image>', {}, "1,000,000"),
        ('<image w="9" h="9">' + "<stack>" * 400 + "</stack>" * 400 + "</image>", {}, "nested"),
    ],
)
def test_a_bad_openraster_gives_one_clear_error(
    tmp_path: Path, stack: str, members: dict[str, bytes], reason: str
) -> None:
    with pytest.raises(SourceError, match=reason):
        read(_ora_with(tmp_path, stack, **members))


@pytest.mark.parametrize("bitmap", [b"", b"GIF89a nonsense", b"\x89PNG\r\n\x1a\nnonsense"])
def test_a_broken_layer_fails_alone(tmp_path: Path, bitmap: bytes) -> None:
    stack = (
        '<image w="9" h="9"><stack><layer name="bad #icon" src="a"/>'
        '<layer name="good #icon" src="b"/></stack></image>'
    )
    file = _ora_with(tmp_path, stack, a=bitmap, b=flat(9, 9).pngsave_buffer())
    prepared = prepare(survey_for(read(file), Plan()), Plan())
    assert [job.cut.name for job in prepared.jobs] == ["good"]
    assert [remark.cut for remark in prepared.failed] == ["bad"]
    assert prepared.failed[0].source == "bad.ora"


def test_a_truncated_openraster_is_named(tmp_path: Path) -> None:
    whole = ora(tmp_path / "whole.ora", 50, 50, [L("a", flat(50, 50))])
    data = whole.read_bytes()
    file = tmp_path / "half.ora"
    file.write_bytes(data[: len(data) // 2])
    with pytest.raises(SourceError, match=r"half\.ora"):
        survey(read(file))


def test_a_layer_that_unpacks_to_too_much_is_refused(tmp_path: Path) -> None:
    file = _ora_with(tmp_path, ONE, a=b"\x89PNG\r\n\x1a\n" + b"\0" * 1000)
    data = bytearray(file.read_bytes())
    at = data.rfind(b"PK\x01\x02")
    data[at + 24 : at + 28] = (2_000_000_000).to_bytes(4, "little")
    file.write_bytes(data)
    document = read(file)
    with pytest.raises(SourceError, match="2,000 MB"):
        document.extent(document.part("a"))


def test_strange_numbers_in_a_stack_are_harmless(tmp_path: Path) -> None:
    layer = L("odd", flat(5, 5), 0, 0, {"opacity": "nan"})
    file = ora(tmp_path / "odd.ora", 10, 10, [layer])
    document = read(file)
    assert document.part("odd").opacity == 1.0
    far = L("far", flat(5, 5), 2_000_000_000, -5, {"opacity": "7"})
    document = read(ora(tmp_path / "far.ora", 10, 10, [far]))
    canvas = document.render(document.canvas, document.canvas_rect, 10)
    assert canvas[3].max() == 0
