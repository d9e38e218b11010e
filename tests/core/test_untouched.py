"""What passes through untouched: only what shows exactly the same, and nothing but its picture."""

from __future__ import annotations

import struct
import zipfile
import zlib
from base64 import b64encode
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

import pytest
import pyvips
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.deliver.manifest import File
from gefa.core.make.make_cut import carry_out
from gefa.core.make.memory_shelf import MemoryShelf
from gefa.core.make.prepare import prepare, survey_for
from gefa.core.plan.plan import CutEntry, Plan
from gefa.core.read import read
from gefa.core.treat.avif_boxes import MOST_META
from gefa.core.treat.encode import encode
from gefa.core.treat.formats import Format
from gefa.core.treat.recipe import Recipe
from gefa.core.treat.untouched import bare, shows
from tests.make import L, dot, flat, loaded, ora, photo, standard_profile, svg, with_tag

SUFFIX = {Format.JPEG: ".jpg[Q=40]", Format.PNG: ".png", Format.WEBP: ".webp[Q=40]"}
FORMATS = list(SUFFIX)


def signed(image: pyvips.Image) -> pyvips.Image:
    """With a name, a place and a thumbnail's worth of notes."""
    image = image.copy()
    image.set_type(pyvips.GValue.gstr_type, "exif-ifd0-Artist", "Somebody")
    image.set_type(pyvips.GValue.gstr_type, "exif-ifd3-GPSLatitude", "54/1 30/1 0/1")
    image.set_type(pyvips.GValue.blob_type, "xmp-data", b"<x>secret</x>" * 40)
    return image


def made_of(
    path: Path, recipe: Recipe, part: str = "/"
) -> tuple[dict[str, File], dict[str, bytes]]:
    document = read(path)
    plan = Plan(recipes={"r": recipe}, cuts=(CutEntry(part=part, recipe="r"),))
    (job,) = prepare(survey_for(document, plan), plan).jobs
    shelf = MemoryShelf()
    report = carry_out(job, lambda: document, shelf)
    data = {path: shelf.load(key) or b"" for path, key in report.keys.items()}
    return {file.path: file for file in report.files}, data


@pytest.mark.parametrize("format", FORMATS)
def test_a_light_picture_passes_through_without_its_metadata(
    tmp_path: Path, format: Format
) -> None:
    suffix = SUFFIX[format]
    source = tmp_path / f"a{suffix.partition('[')[0]}"
    source.write_bytes(signed(photo(160, 120)).write_to_buffer(suffix, keep="exif"))
    quality = {} if format is Format.PNG else {format: 90}
    recipe = Recipe(formats=(format,), widths=(40, 160), quality=quality, untouched=True)
    files, made = made_of(source, recipe)
    whole, small = (
        files[f"a-{width}.{format.value.replace('jpeg', 'jpg')}"] for width in (160, 40)
    )
    if format is not Format.PNG:  # that of the test's encoder is heavier than ours
        assert whole.untouched
        assert whole.bytes < source.stat().st_size
        data = made[whole.path]
        assert data == bare(source.read_bytes(), format)
        assert b"secret" not in data
        assert not [name for name in loaded(data).get_fields() if name.startswith(("exif", "xmp"))]
        assert (loaded(data).numpy() == loaded(source.read_bytes()).numpy()).all()
    assert not small.untouched
    without, _ = made_of(source, recipe.model_copy(update={"untouched": False}))
    assert not any(file.untouched for file in without.values())
    assert whole.bytes <= without[whole.path].bytes


TURNED = with_tag(photo(160, 120), "orientation", 6)
UNFIT: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "is toned": ({"Q": 20}, {"tone": True}),
    "is cropped": ({"Q": 20}, {"fit": "cover", "ratio": 1.0}),
    "is smaller": ({"Q": 20}, {"widths": [100]}),
    "is heavy": ({"Q": 98}, {}),
    "has another format": ({"Q": 20}, {"formats": ["webp"]}),
}


@pytest.mark.parametrize("why", UNFIT)
def test_nothing_passes_that_is_not_what_was_asked_for(tmp_path: Path, why: str) -> None:
    saved, changes = UNFIT[why]
    source = tmp_path / "a.jpg"
    photo(160, 120).jpegsave(str(source), **saved)
    fields = {"formats": ["jpeg"], "widths": [160], "untouched": True, **changes}
    files, _ = made_of(source, Recipe.model_validate(fields))
    assert files
    assert not any(file.untouched for file in files.values())


def test_what_shows_otherwise_without_its_metadata_does_not_pass(tmp_path: Path) -> None:
    wide = photo(160, 120).copy()
    wide.set_type(pyvips.GValue.blob_type, "icc-profile-data", standard_profile("p3"))
    for name, image in (("turned", TURNED), ("wide", wide)):
        source = tmp_path / f"{name}.jpg"
        image.jpegsave(str(source), Q=20)
        recipe = Recipe(formats=("jpeg",), widths=(160,), untouched=True)
        files, _ = made_of(source, recipe)
        assert not any(file.untouched for file in files.values()), name


def test_automatic_formats_take_what_is_good_already(tmp_path: Path) -> None:
    source = tmp_path / "a.jpg"
    photo(160, 120).jpegsave(str(source), Q=40)
    files, _ = made_of(source, Recipe(formats="auto", widths=(160,), quality={"look": 95}))
    assert [f.untouched for f in files.values() if f.format is Format.JPEG] == [True]


@pytest.mark.parametrize("format", FORMATS)
@given(data=st.data())
def test_hostile_files_lose_all_that_is_no_picture(format: Format, data: st.DataObject) -> None:
    """What is added around a picture goes; what is damaged is no picture, and breaks nothing."""
    image = dot(48, 40, (8, 8, 20, 20)) if format is not Format.JPEG else photo(48, 40)
    good = signed(image).write_to_buffer(SUFFIX[format], keep="all")
    whole = bare(good + b"<script>" * 9, format)
    assert whole is not None
    assert b"<script>" not in whole
    assert b"secret" not in whole
    assert shows(whole, format, loaded(whole))
    damaged = bytearray(good)
    for _ in range(data.draw(st.integers(0, 4))):
        damaged[data.draw(st.integers(0, len(good) - 1))] = data.draw(st.integers(0, 255))
    found = bare(bytes(damaged)[: data.draw(st.integers(0, len(good)))], format)
    if found is not None and shows(found, format, image):
        assert found == whole or (loaded(found).numpy() == loaded(whole).numpy()).all()


HIDDEN = b"HIDDEN" * 5


def _in_webp(data: bytes, change: Callable[[bytes, bytes], Iterable[tuple[bytes, bytes]]]) -> bytes:
    """A WebP whose chunks are what ``change`` makes of each."""
    at, body = 12, b""
    while at < len(data):
        kind, length = struct.unpack_from("<4sI", data, at)
        for name, told in change(kind, data[at + 8 : at + 8 + length]):
            body += name + struct.pack("<I", len(told)) + told + b"\0" * (len(told) % 2)
        at += 8 + length + length % 2
    return b"RIFF" + struct.pack("<I", len(body) + 4) + b"WEBP" + body


def _chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def hiding_places() -> Iterator[tuple[str, Format, bytes]]:
    """Files with HIDDEN in them where no decoder looks."""
    jpeg = bytes(photo(64, 48).jpegsave_buffer(Q=60, keep="none"))
    scan = jpeg.index(b"\xff\xda")
    table = b"\xff\xdb\x00\x43\x03" + (HIDDEN * 3)[:64]
    yield "behind the last scan", Format.JPEG, jpeg[:-2] + HIDDEN + jpeg[-2:]
    yield "in an unused table", Format.JPEG, jpeg[:scan] + table + jpeg[scan:]
    yield "behind the end", Format.JPEG, jpeg + HIDDEN
    png = bytes(photo(64, 48).pngsave_buffer(keep="none"))
    at = png.index(b"IDAT") - 4
    size = struct.unpack_from(">I", png, at)[0]
    pixels = png[at + 8 : at + 8 + size]
    before, after = png[:at], png[at + 12 + size :]
    yield "behind the zlib stream", Format.PNG, before + _chunk(b"IDAT", pixels + HIDDEN) + after
    yield (
        "in a second run of IDAT",
        Format.PNG,
        png[: -len(after)] + _chunk(b"tEXt", b"a\0b") + _chunk(b"IDAT", HIDDEN) + after,
    )
    yield (
        "in a palette of a true colour file",
        Format.PNG,
        before + _chunk(b"PLTE", HIDDEN) + png[at:],
    )
    few = bytes(flat(40, 30).pngsave_buffer(palette=True, keep="none"))
    palette = few.index(b"PLTE") - 4
    colours = struct.unpack_from(">I", few, palette)[0]
    more = _chunk(b"PLTE", few[palette + 8 : palette + 8 + colours] + HIDDEN[:3])
    yield "in an unused colour", Format.PNG, few[:palette] + more + few[palette + 12 + colours :]
    for how in ({"Q": 40}, {"lossless": True}):
        webp = bytes(photo(64, 48).webpsave_buffer(keep="none", **how))
        yield (
            f"behind the bits of {how}",
            Format.WEBP,
            _in_webp(webp, lambda k, d: [(k, d + HIDDEN)]),
        )
        yield (
            f"in a second picture of {how}",
            Format.WEBP,
            _in_webp(webp, lambda k, d: [(k, d), (k, HIDDEN)]),
        )
        yield (
            f"in a foreign chunk of {how}",
            Format.WEBP,
            _in_webp(webp, lambda k, d: [(k, d), (b"ABCD", HIDDEN)]),
        )
    clear = bytes(dot(64, 48, (9, 9, 30, 20)).webpsave_buffer(Q=40, keep="none"))
    yield (
        "behind the alpha",
        Format.WEBP,
        _in_webp(clear, lambda k, d: [(k, d + HIDDEN if k == b"ALPH" else d)]),
    )


@pytest.mark.parametrize(
    ("format", "data"), [(format, data) for _, format, data in hiding_places()],
    ids=[place for place, *_ in hiding_places()],
)  # fmt: skip
def test_no_byte_stays_that_no_decoder_reads(format: Format, data: bytes) -> None:
    assert HIDDEN[:3] in data
    loaded(data)
    found = bare(data, format)
    if found is not None:
        assert HIDDEN[:6] not in found
        assert (loaded(found).numpy() == loaded(data).numpy()).all()


@pytest.mark.parametrize(("format", "how"), [
    (Format.JPEG, ".jpg[Q=40,interlace]"), (Format.JPEG, ".jpg[Q=90,subsample_mode=off,restart_interval=4]"),
    (Format.PNG, ".png[interlace]"), (Format.PNG, ".png[palette,bitdepth=4]"), (Format.PNG, ".png[filter=all]"),
    (Format.WEBP, ".webp[lossless]"), (Format.WEBP, ".webp[Q=80,smart_subsample,effort=6]"),
])  # fmt: skip
@pytest.mark.parametrize(
    "image", [photo(163, 121), dot(161, 119, (8, 8, 90, 70))], ids=["photo", "alpha"]
)
def test_ordinary_files_stay_as_they_are(image: pyvips.Image, format: Format, how: str) -> None:
    data = bytes(image.write_to_buffer(how, keep="none"))
    found = bare(data, format)
    assert found is not None
    assert len(found) <= len(data)
    assert (loaded(found).numpy() == loaded(data).numpy()).all()


def avif(image: pyvips.Image, **how: Any) -> bytes:
    return bytes(image.heifsave_buffer(**{"compression": "av1", "Q": 40, "keep": "none"} | how))


@pytest.mark.parametrize(
    "data",
    [avif(photo(64, 48)), avif(dot(64, 48, (9, 9, 30, 20))), avif(photo(64, 48), bitdepth=10)],
    ids=["opaque", "transparent", "10 bit"],
)
def test_an_avif_that_holds_only_its_picture_passes_whole(data: bytes) -> None:
    assert bare(data, Format.AVIF) == data
    assert shows(data, Format.AVIF, loaded(data).colourspace("srgb"))
    for more in (b"\0\0\0\x10free<script>", b"\0\0\0\x10uuid<script>", b"<script>"):
        assert bare(data + more, Format.AVIF) is None
    start, mdat = data.index(b"meta") - 4, data.index(b"mdat") - 4
    assert mdat - start < MOST_META - 100, "far from the limit"
    # Bytes in mdat that no item refers to.
    at = data.index(b"mdat") - 4
    size = int.from_bytes(data[at : at + 4], "big") + 8
    assert (
        bare(data[:at] + size.to_bytes(4, "big") + data[at + 4 :] + b"<script>", Format.AVIF)
        is None
    )


@given(cut=st.integers(0, 700), at=st.integers(0, 300), byte=st.integers(0, 255))
def test_a_damaged_avif_breaks_nothing(cut: int, at: int, byte: int) -> None:
    damaged = bytearray(avif(photo(64, 48)))
    damaged[at] = byte
    assert bare(bytes(damaged[:cut]), Format.AVIF) in (None, bytes(damaged[:cut]))


def test_an_avif_source_passes_through_or_is_made_anew(tmp_path: Path) -> None:
    wide = signed(photo(160, 120))
    wide.set_type(pyvips.GValue.blob_type, "icc-profile-data", standard_profile("p3"))
    sources = {
        "plain": avif(photo(160, 120), Q=20),
        "named": avif(signed(photo(160, 120)), Q=20, keep="all"),
        "wide": avif(wide, Q=20, keep="icc"),
    }
    for name, data in sources.items():
        source = tmp_path / f"{name}.avif"
        source.write_bytes(data)
        recipe = Recipe(formats=("avif",), widths=(160,), quality={"avif": 90}, untouched=True)
        files, made = made_of(source, recipe)
        (file,) = files.values()
        assert file.untouched == (name == "plain"), name
        assert (made[file.path] == data) == (name == "plain")


@pytest.mark.parametrize(
    ("group", "passes"),
    [
        ("<g id='Noon'>{image}</g>", True),
        ("<g id='Noon' opacity='0.5'>{image}</g>", False),
        ("<g id='Noon' transform='rotate(3 80 60)'>{image}</g>", False),
        ("<g id='Noon'>{image}<circle cx='80' cy='60' r='1.5'/></g>", False),
        ("<g id='Noon'>{image}{image}</g>", False),
    ],
)
def test_a_bitmap_in_a_drawing_passes_where_it_shows_as_it_is(
    tmp_path: Path, group: str, passes: bool
) -> None:
    data = bytes(signed(photo(160, 120)).jpegsave_buffer(Q=40, keep="exif"))
    href = f"data:image/jpeg;base64,{b64encode(data).decode()}"
    image = f"<image width='160' height='120' href='{href}'/>"
    source = svg(tmp_path / "d.svg", group.format(image=image))
    recipe = Recipe(formats=(Format.JPEG,), widths=(160,), quality={Format.JPEG: 90})
    for untouched in (True, False):
        told = recipe.model_copy(update={"untouched": untouched})
        files, made = made_of(source, told, "Noon")
        (file,) = files.values()
        assert file.untouched is (passes and untouched)
        assert (made[file.path] == bare(data, Format.JPEG)) is file.untouched


@pytest.mark.parametrize("opacity", ["1", "0.5"])
def test_a_layer_passes_where_it_shows_as_it_is(tmp_path: Path, opacity: str) -> None:
    image = dot(90, 70, (0, 0, 90, 70), (200, 60, 40))
    light = encode(image, Format.PNG, None)
    source = ora(tmp_path / "d.ora", 90, 70, [L("Kite", image, attributes={"opacity": opacity})])
    packed = tmp_path / "packed.ora"
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(packed, "w") as new:
        for name in old.namelist():
            new.writestr(name, light if name.endswith(".png") else old.read(name))
    recipe = Recipe(formats=(Format.PNG,), widths=(90,), untouched=True)
    for path, passes in ((source, False), (packed, opacity == "1")):
        files, made = made_of(path, recipe, "Kite")
        (file,) = files.values()
        assert file.untouched is passes
        assert loaded(made[file.path]).width == 90


def test_animations_are_not_taken_apart() -> None:
    moving = pyvips.Image.arrayjoin([photo(20, 20, 1), photo(20, 20, 2)], across=1).copy()
    moving.set_type(pyvips.GValue.gint_type, "page-height", 20)
    assert bare(moving.webpsave_buffer(), Format.WEBP) is None


def test_cmyk_never_passes_since_each_browser_converts_it_in_its_own_way() -> None:
    picture = photo(64, 48).icc_export(output_profile="cmyk")
    for interlace in (False, True):
        data = picture.jpegsave_buffer(Q=90, interlace=interlace, keep="none")
        assert bare(data, Format.JPEG) is None
