"""Keys of the site: what each may do, whether it still may, and when it was last used."""

from __future__ import annotations

import pytest

from gefa.core.errors import PlanError
from gefa.store.keys import (
    SiteRight,
    found_site_key,
    name_of_key,
    new_site_key,
    note_uses,
    revoke_site_key,
    site_keys,
)
from gefa.store.models import SiteKey, now
from gefa.store.store import Store


def test_a_site_key_opens_until_it_is_revoked_and_is_never_kept(store: Store) -> None:
    with store.changing() as session:
        key = new_site_key(session, " CI ", {SiteRight.READ, SiteRight.BUILD})
    with store.reading() as session:
        found = found_site_key(session, key)
        assert found is not None
        assert (found.name, found.rights) == ("CI", ["build", "read"])
        assert key not in found.digest
        assert found_site_key(session, f"{key}x") is None
    assert name_of_key(store, key) == "CI"
    with store.changing() as session:
        revoke_site_key(session, found.id)
    with store.reading() as session:
        assert found_site_key(session, key) is None
        assert [known.revoked is None for known in site_keys(session)] == [False]
    assert name_of_key(store, key) is None


def test_a_site_key_notes_when_it_was_used_and_needs_a_right(store: Store) -> None:
    with store.changing() as session:
        new_site_key(session, "", {SiteRight.READ})
        with pytest.raises(PlanError, match="at least one right"):
            new_site_key(session, "none", set())
        (known,) = site_keys(session)
        note_uses(session, {known.id: now()})
        assert session.get_one(SiteKey, known.id).used is not None
