"""Names and paths of files on their way in."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gefa.core.read.source_paths import MAX_LEVELS, clean_path


@pytest.mark.parametrize(
    ("sent", "kept"),
    [
        ("photos/beach/shore.jpg", "photos/beach/shore.jpg"),
        ("C:\\designs\\poster.ora", "designs/poster.ora"),
        ("/etc/../../secret.png", "etc/secret.png"),
        ("./a//b/./c.png", "a/b/c.png"),
        ("", "unnamed"),
        ("../..", "unnamed"),
    ],
)
def test_a_path_keeps_its_folders_and_nothing_that_leads_out(sent: str, kept: str) -> None:
    assert clean_path(sent) == kept


@given(st.text(max_size=2_000))
def test_no_path_leads_out_or_is_longer_than_a_source_may_be(sent: str) -> None:
    path = clean_path(sent)
    levels = path.split("/")
    assert not path.startswith("/")
    assert 1 <= len(path) <= 390
    assert 1 <= len(levels) <= MAX_LEVELS
    assert all(level and level not in (".", "..") for level in levels)
    assert path.isprintable()
