"""Slots and their settings, keys and their rights, and uploads from one state to the next."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from sqlmodel import Session, select

from gefa.core.deliver.manifest import File
from gefa.core.errors import GefaError, PlanError
from gefa.core.slots.settings import KeepOriginal, Mask
from gefa.core.slots.upload import Focus
from gefa.core.treat.recipe import BUILT_IN, Recipe
from gefa.store.feed import FeedQuery, feed, uploads_of
from gefa.store.keys import Right, found_key, keys_of, new_key, note_uses, revoke
from gefa.store.models import Notification, SlotKey, Task, Upload, UploadState, Variant, now
from gefa.store.notices import AT_ONCE, RETRIES, due_by_slot, tried
from gefa.store.recipes import save_recipe
from gefa.store.slots import (
    add_slot,
    can_undo_settings,
    change_settings,
    remove_slot,
    settings_of,
    site_of,
    slot_named,
    undo_settings,
)
from gefa.store.store import Store
from gefa.store.sweep import sweep_blobs
from gefa.store.uploads import (
    ChangedMeanwhile,
    Described,
    Sent,
    accept,
    approve,
    describe,
    focus_of,
    latest_job,
    make_all_again,
    outdated,
    reject,
    remove,
    replace,
    restore,
    treat,
)
from gefa.store.variants import newest_revision, newest_variants, variants_of_upload
from gefa.work.queue import Outcome
from gefa.work.settlers import settle

SMALL = Recipe(formats=("jpeg",), widths=(90,))


def sent(store: Store, data: bytes = b"a picture", name: str = "a.jpg") -> Sent:
    return Sent(name, store.blobs.put(data), "jpeg")


def report(
    digest: str, warnings: tuple[str, ...] = (), paths: tuple[str, ...] = ("a-90.jpg",)
) -> dict[str, Any]:
    """What a worker answers that made files of that content."""
    files = [
        File(cut="whole", path=path, format="jpeg", width=90, height=60, bytes=5,
             sha256=digest * 64, quality=78, reused=False)
        for path in paths
    ]  # fmt: skip
    record = {
        "name": "whole", "source": "a.jpg", "part": "/", "recipe": "whole", "origin": "hand",
        "x": 0, "y": 0, "width": 90, "height": 60, "alpha": "none", "baseline_bytes": 9, "markup": "",
    }  # fmt: skip
    made = {"record": record, "files": [file.model_dump(mode="json") for file in files]}
    return {
        "width": 90, "height": 60, "format": "jpeg", "placeholder": "#aabbcc", "tiny": "data:,",
        "preview": "p" * 64, "suggested": {"x": 0.25, "y": 0.5, "zoom": 1.5}, "crops": [], "made": [made], "left_out": [],
        "warnings": list(warnings), "failed": [],
    }  # fmt: skip


def finish(session: Session, upload: Upload, digest: str, **more: Any) -> None:
    job = latest_job(session, upload.id)
    assert job is not None
    settle(session, job, Outcome(job=job.id, report=report(digest, **more)))
    session.flush()


def revision(session: Session, upload: Upload) -> str:
    return newest_revision(session, upload.id) or ""


def served(session: Session, upload: Upload) -> list[str]:
    return [variant.sha256[0] for variant in variants_of_upload(session, upload.id)]


def retired(session: Session, upload: Upload) -> list[str]:
    found = session.exec(select(Variant).where(Variant.upload_id == upload.id)).all()
    return [variant.sha256[0] for variant in found if variant.retired is not None]


def due(session: Session) -> list[Notification]:
    ids = [id for ids in due_by_slot(session).values() for id in ids]
    return [session.get_one(Notification, id) for id in ids]


def test_no_slot_keeps_the_notices_of_another_waiting(store: Store) -> None:
    with store.session() as session:
        many, few = add_slot(session, "many"), add_slot(session, "few")
        session.flush()
        for number in range(AT_ONCE + 5):
            session.add(Notification(slot_id=many.id, upload_id=str(number), url="u", kind="k"))
        session.flush()
        session.add(Notification(slot_id=few.id, upload_id="last", url="u", kind="k"))
        session.flush()
        found = due_by_slot(session)
        assert len(found[many.id]) == AT_ONCE
        first = session.get_one(Notification, found[many.id][0])
        assert (first.upload_id, len(found[few.id])) == ("0", 1)


def test_a_slot_inherits_what_it_does_not_say_itself(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"max_bytes": 2_000})
        site = site_of(session)
        change_settings(session, site, {"review": True, "max_bytes": 9_000})
        assert settings_of(session, slot).review
        assert settings_of(session, slot).max_bytes == 2_000
        change_settings(session, slot, {"mask": "circle", "review": False})
        assert (settings_of(session, slot).mask, settings_of(session, slot).review) == (
            Mask.CIRCLE,
            False,
        )
        change_settings(session, slot, {}, back=("max_bytes", "review"))
        assert slot.own == {"mask": "circle"}
        assert settings_of(session, slot).max_bytes == 9_000
        assert can_undo_settings(session, slot) == "max_bytes, review"
        undo_settings(session, slot)
        assert settings_of(session, slot).max_bytes == 2_000


def test_a_slot_goes_when_its_uploads_went(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"notify": "http://site.invalid/told"})
        new_key(session, slot, "site", list(Right))
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1")
        with pytest.raises(PlanError, match="it has uploads"):
            remove_slot(session, slot)
        remove(session, upload)
        assert uploads_of(session, slot) == (0, 1)
        remove_slot(session, slot)
        assert slot_named(session, "gallery") is None
        for table in (Upload, Variant, Task, Notification, SlotKey):
            assert session.exec(select(table)).all() == []
        assert add_slot(session, "gallery").own == {}


@pytest.mark.parametrize(
    ("own", "said"),
    [
        ({"max_bytes": 3}, "max_bytes"),
        ({"min_width": 900, "max_width": 300}, "the smallest width is larger than the largest"),
        ({"recipe": "nothing"}, "'nothing' is not there any more"),
        ({"crops": [{"name": "a"}, {"name": "A"}]}, "two crops have the same name"),
        ({"crops": [{"name": "a/b"}]}, "not a name for a crop"),
        ({"crops": [{"name": "a"}, {"name": "b"}], "name": "{source}-{width}.{ext}"}, "needs {cut}"),
        ({"name": "{source}.{ext}"}, "needs {width}"),
        ({"notify": "ftp://x/"}, "not an address"),
        ({"accepts": ["svg"]}, "flat pictures only"),
        ({"min_ratio": "wide"}, "not a ratio"),
    ],
)  # fmt: skip
def test_settings_that_cannot_be_are_refused(store: Store, own: dict[str, Any], said: str) -> None:
    with store.session() as session, pytest.raises(PlanError, match=said):
        add_slot(session, "gallery", own)


def test_a_default_that_a_slot_cannot_have_is_refused(store: Store) -> None:
    with store.session() as session:
        add_slot(session, "gallery", {"min_width": 900})
        with pytest.raises(PlanError, match="this does not fit the slot gallery"):
            change_settings(session, site_of(session), {"max_width": 300})
        for name in ("Gallery", "a/b", "", "ü"):
            with pytest.raises(PlanError, match="not a name for a slot"):
                add_slot(session, name)
        with pytest.raises(PlanError, match="already"):
            add_slot(session, "gallery")


def test_a_key_opens_its_slot_for_what_it_may_and_is_not_kept(store: Store) -> None:
    with store.session() as session:
        one = add_slot(session, "one")
        key = new_key(session, one, "site", [Right.REVIEW, Right.UPLOAD])
        found = found_key(session, key)
        assert found is not None
        assert (found.slot_id, found.rights, found.name) == (one.id, ["upload", "review"], "site")
        note_uses(session, store.uses)
        assert found.used is not None
        assert now() - found.used < timedelta(seconds=5)
        assert found_key(session, "gefa_guess") is None
        revoke(session, one, keys_of(session, one)[0].id)
        assert found_key(session, key) is None
        with pytest.raises(PlanError, match="at least one right"):
            new_key(session, one, "none", [])
    for file in store.folder.glob("gefa.sqlite3*"):
        assert key.encode() not in file.read_bytes()


def test_an_upload_is_treated_by_its_slots_recipe_as_it_is_now(store: Store) -> None:
    with store.session() as session:
        save_recipe(session, "hero", SMALL, "Began it")
        slot = add_slot(session, "gallery", {"recipe": "hero"})
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1")
        assert upload.state is UploadState.LIVE
        assert outdated(session, slot) == []
        save_recipe(session, "hero", BUILT_IN["icon"], "Changed it")
        assert outdated(session, slot) == [upload]
        assert make_all_again(session, slot) == 1
        assert outdated(session, slot) == [], "it is being made"
        job = latest_job(session, upload.id)
        assert job is not None
        assert job.task["recipe"]["widths"] == [48, 96, 192]
        finish(session, upload, "2")
        assert outdated(session, slot) == []
        change_settings(session, slot, {"review": True, "sizes": "50vw"})
        assert outdated(session, slot) == [], "that makes no other files"


def test_files_before_are_served_on_until_the_new_ones_are_there_and_after(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"crops": [{"name": "whole", "ratio": 1}]})
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1", paths=("a-90.jpg", "a-50.jpg"))
        assert describe(session, upload, slot, Described(focal_x=0.1, focal_y=0.9))
        assert (upload.state, served(session, upload)) == (UploadState.LIVE, ["1", "1"])
        finish(session, upload, "2")
        assert (served(session, upload), retired(session, upload)) == (["2"], ["1", "1"])
        describe(session, upload, slot, Described(focal_x=0.5, focal_y=0.5))
        finish(session, upload, "1", paths=("a-90.jpg",))
        assert (served(session, upload), sorted(retired(session, upload))) == (["1"], ["1", "2"])
        assert not describe(session, upload, slot, Described(alt="Kites", tags=["a ", "a", ""]))
        assert (upload.alt, upload.tags) == ("Kites", ["a"])


def test_only_the_newest_treatment_counts(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"crops": [{"name": "whole", "ratio": 1}]})
        upload = accept(session, slot, sent(store))
        first = latest_job(session, upload.id)
        describe(session, upload, slot, Described(focal_x=0.1, focal_y=0.9))
        assert first is not None
        settle(session, first, Outcome(job=first.id, report=report("1")))
        assert upload.state is UploadState.PROCESSING
        finish(session, upload, "2")
        assert served(session, upload) == ["2"]


def test_what_cannot_be_made_again_is_served_as_it_was(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery")
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1")
        replace(session, upload, slot, sent(store, b"broken", "b.jpg"))
        job = latest_job(session, upload.id)
        assert job is not None
        settle(session, job, Outcome(job=job.id, problem="b.jpg: truncated.", refused=True))
        assert (upload.state, upload.name) == (UploadState.LIVE, "a.jpg"), "made again from that"
        assert upload.problem == "b.jpg: truncated. What was there before stays."
        assert served(session, upload) == ["1"]


def test_a_file_that_is_rejected_in_the_place_of_another_leaves_that_there(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"review": True})
        upload = accept(session, slot, sent(store), Described(focal_x=0.2, focal_y=0.3, zoom=2))
        finish(session, upload, "1", paths=("a-90.jpg", "a-180.jpg"))
        approved = revision(session, upload)
        approve(session, upload, slot, approved)
        replace(session, upload, slot, sent(store, b"another", "b.jpg"))
        finish(session, upload, "2", paths=("a-90.jpg",))
        replace(session, upload, slot, sent(store, b"a third", "c.jpg"))
        finish(session, upload, "3", paths=("a-90.jpg",))
        assert (upload.name, upload.state, upload.zoom) == ("c.jpg", UploadState.HELD, 1.5)
        assert served(session, upload) == ["1", "1"]
        before = store.blobs.put(b"a picture").sha256
        sweep_blobs(session, store.blobs, unused=-1, anyway=True)
        assert store.blobs.path(before).exists(), "it may be needed again"
        treat(session, upload, slot)
        late = latest_job(session, upload.id)
        assert late is not None
        with pytest.raises(ChangedMeanwhile, match=r"now it is c\.jpg"):
            approve(session, upload, slot, approved)
        reject(session, upload, "Too dark", revision(session, upload))
        settle(session, late, Outcome(job=late.id, report=report("4")))
        assert upload.problem == "c.jpg was rejected: Too dark. What was there before stays."
        assert (upload.name, upload.blob, upload.state) == ("a.jpg", before, UploadState.LIVE)
        assert focus_of(upload) == Focus(x=0.2, y=0.3, zoom=2)
        assert (served(session, upload), retired(session, upload)) == (["1", "1"], [])
        assert len(newest_variants(session, upload.id)) == 2
        assert outdated(session, slot) == []

        replace(session, upload, slot, sent(store, b"another", "b.jpg"))
        finish(session, upload, "2")
        approve(session, upload, slot, revision(session, upload))
        reject(session, upload, "Not ours", revision(session, upload))
        assert (upload.name, served(session, upload)) == ("b.jpg", [])


def test_a_held_upload_is_served_to_nobody_until_it_is_approved(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"review": True, "notify": "http://site.invalid/told"})
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1")
        assert (upload.state, served(session, upload)) == (UploadState.HELD, [])
        assert due(session) == []
        approve(session, upload, slot, revision(session, upload))
        assert (upload.state, served(session, upload)) == (UploadState.LIVE, ["1"])
        assert [notice.upload_id for notice in due(session)] == [upload.id]

        replace(session, upload, slot, sent(store, b"another"))
        for decide in (
            approve,
            lambda *a: reject(session, upload, "No", revision(session, upload)),
        ):
            with pytest.raises(GefaError, match="still being made"):
                decide(session, upload, slot, revision(session, upload))
        assert (upload.state, served(session, upload)) == (UploadState.LIVE, ["1"])
        finish(session, upload, "2")
        assert (upload.state, served(session, upload)) == (UploadState.HELD, ["1"])
        approve(session, upload, slot, revision(session, upload))
        assert (served(session, upload), retired(session, upload)) == (["2"], ["1"])

        with pytest.raises(GefaError, match="give a reason"):
            reject(session, upload, " ", revision(session, upload))
        reject(session, upload, "Not ours", revision(session, upload))
        assert (upload.state, served(session, upload)) == (UploadState.REJECTED, [])
        assert retired(session, upload) == [], "nor anything that was before"
        change_settings(session, slot, {"name": "{source}-{hash}.{ext}"})
        make_all_again(session, slot)
        finish(session, upload, "3")
        assert (upload.state, upload.reason) == (UploadState.REJECTED, "Not ours"), (
            "a no stays a no"
        )
        approve(session, upload, slot, revision(session, upload))
        assert (upload.state, upload.reason, served(session, upload)) == (
            UploadState.LIVE,
            "",
            ["3"],
        )


def test_nothing_can_be_approved_that_has_no_files(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"review": True})
        upload = accept(session, slot, sent(store))
        with pytest.raises(GefaError, match="still being made"):
            approve(session, upload, slot, revision(session, upload))
        job = latest_job(session, upload.id)
        assert job is not None
        settle(session, job, Outcome(job=job.id, problem="no room"))
        with pytest.raises(GefaError, match="nothing to decide"):
            reject(session, upload, "Not ours", revision(session, upload))


@pytest.mark.parametrize(
    ("keep", "gone"),
    [(KeepOriginal.ALWAYS, False), (KeepOriginal.NEVER, True), (KeepOriginal.UP_TO, True)],
)
def test_an_original_goes_when_its_files_are_live(
    store: Store, keep: KeepOriginal, gone: bool
) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"original": keep, "original_bytes": 8})
        upload = accept(session, slot, sent(store))
        assert not upload.original_gone
        finish(session, upload, "1")
        assert upload.original_gone is gone
        small = accept(session, slot, sent(store, b"tiny"))
        finish(session, small, "2")
        assert small.original_gone is (keep is KeepOriginal.NEVER)
        if gone:
            with pytest.raises(GefaError, match="its original was removed"):
                treat(session, upload, slot)
            save_recipe(session, "backdrop", SMALL, "Changed it")
            assert upload not in outdated(session, slot)


def test_the_feed_finds_by_every_mark(store: Store) -> None:
    with store.session() as session:
        one, two = add_slot(session, "one"), add_slot(session, "two")
        said = Described(alt="Kites over 100 % of the beach", tags=["Kites", "sea_side"])
        first = accept(session, one, sent(store, name="beach.jpg"), said)
        second = accept(session, two, sent(store, name="dune.jpg"), Described(decorative=True))
        third = accept(session, two, sent(store, name="100_dunes.jpg"))
        finish(session, second, "1")

        def found(**wanted: Any) -> list[str]:
            return [u.name[:3] for u in feed(session, FeedQuery(**wanted), 10).uploads]

        assert found() == ["100", "dun", "bea"]
        assert found(q="KITES") == ["bea"]
        assert found(q="100 %") == ["100", "bea"], "a sign is no word"
        assert found(q="b_a") == []
        assert found(q="sea_") == ["bea"]
        assert found(slot="two") == ["100", "dun"]
        assert found(slot="two", state="live") == ["dun"]
        assert found(state="missing-alt") == ["100"]
        assert found(tag="Kites") == ["bea"]
        assert found(tag="kites") == []
        today = now().date()
        assert found(since=today, until=today) == ["100", "dun", "bea"]
        assert (
            found(since=today + timedelta(days=1)) == found(until=today - timedelta(days=1)) == []
        )
        remove(session, first)
        assert found(state="removed") == ["bea"]
        assert found() == ["100", "dun"]
        page = feed(session, FeedQuery(), 1)
        assert (page.total, page.next) == (2, third.id)
        assert [u.id for u in feed(session, FeedQuery(after=third.id), 1).uploads] == [second.id]


def test_a_notice_is_tried_again_ever_more_slowly_and_given_up(store: Store) -> None:
    with store.session() as session:
        slot = add_slot(session, "gallery", {"notify": "http://site.invalid/told"})
        upload = accept(session, slot, sent(store))
        finish(session, upload, "1")
        (notice,) = due(session)
        waits = []
        for _ in RETRIES:
            tried(session, notice, "it answered 503")
            session.flush()
            assert notice.due is not None
            waits.append(notice.due - now())
            assert due(session) == []
        assert waits == sorted(waits)
        tried(session, notice, "it answered 503")
        assert (notice.due, notice.told) == (None, None)
        replace(session, upload, slot, sent(store, b"another"))
        finish(session, upload, "2")
        (again,) = due(session)
        assert again.due is not None, "the next is told anew"
        tried(session, again, "")
        remove(session, upload)
        restore(session, upload)
        session.flush()
        assert len(due(session)) == 1, "it is live again"
