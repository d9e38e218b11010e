"""Words, tags and counts of uploads are in tables of their own, and the feed reads along an index.

Triggers keep these tables, so that nobody who changes an upload has to think of them. The full-text
table is called by number: it could only be searched, not indexed, by the id of an upload.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

# As text a list has its letters beyond ASCII escaped.
TAGS = "(SELECT group_concat(value, ' ') FROM json_each({0}.tags))"
ADD = f"""
  INSERT INTO upload_number (upload_id) VALUES (new.id) ON CONFLICT DO NOTHING;
  INSERT INTO upload_words (rowid, name, alt, tags)
    SELECT number, new.name, new.alt, {TAGS.format("new")}
      FROM upload_number WHERE upload_id = new.id;
  INSERT INTO upload_tag (upload_id, tag)
    SELECT DISTINCT new.id, value FROM json_each(new.tags);
"""
DROP = """
  DELETE FROM upload_words
    WHERE rowid = (SELECT number FROM upload_number WHERE upload_id = old.id);
  DELETE FROM upload_tag WHERE upload_id = old.id;
"""

COUNT = """
  INSERT INTO upload_count (slot_id, state, number)
    SELECT new.slot_id, new.state, 1 WHERE new.removed IS NULL
    ON CONFLICT DO UPDATE SET number = number + 1;
"""
DISCOUNT = """
  UPDATE upload_count SET number = number - 1
    WHERE slot_id = old.slot_id AND state = old.state AND old.removed IS NULL;
"""


def upgrade() -> None:
    op.create_table(
        "upload_number",
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("upload_id", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("number"),
        sa.UniqueConstraint("upload_id"),
    )
    op.create_table(
        "upload_tag",
        sa.Column("tag", sa.String(), nullable=False),
        sa.Column("upload_id", sa.String(), nullable=False),
        sa.PrimaryKeyConstraint("tag", "upload_id"),
    )
    op.create_index("ix_upload_tag_upload_id", "upload_tag", ["upload_id"])
    state = sa.Enum(
        "RECEIVED", "PROCESSING", "HELD", "LIVE", "REJECTED", "FAILED", name="uploadstate"
    )
    op.create_table(
        "upload_count",
        sa.Column("slot_id", sa.String(), nullable=False),
        sa.Column("state", state, nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("slot_id", "state"),
    )
    op.execute(
        "CREATE VIRTUAL TABLE upload_words USING fts5"
        " (name, alt, tags, tokenize = 'unicode61 remove_diacritics 2', prefix = '2 3')"
    )
    op.execute(f"CREATE TRIGGER upload_added AFTER INSERT ON upload BEGIN {ADD} {COUNT} END")
    op.execute(
        "CREATE TRIGGER upload_changed AFTER UPDATE OF name, alt, tags ON upload"
        f" WHEN (old.name, old.alt, old.tags) IS NOT (new.name, new.alt, new.tags)"
        f" BEGIN {DROP} {ADD} END"
    )
    op.execute(
        "CREATE TRIGGER upload_moved AFTER UPDATE OF slot_id, state, removed ON upload"
        f" BEGIN {DISCOUNT} {COUNT} END"
    )
    op.execute(
        f"CREATE TRIGGER upload_gone AFTER DELETE ON upload BEGIN {DROP} {DISCOUNT}"
        " DELETE FROM upload_number WHERE upload_id = old.id; END"
    )
    op.execute("INSERT INTO upload_number (upload_id) SELECT id FROM upload")
    op.execute(
        "INSERT INTO upload_words (rowid, name, alt, tags)"
        f" SELECT number, name, alt, {TAGS.format('upload')}"
        " FROM upload JOIN upload_number ON upload_id = id"
    )
    op.execute(
        "INSERT INTO upload_tag (upload_id, tag)"
        " SELECT DISTINCT upload.id, value FROM upload, json_each(upload.tags)"
    )
    op.execute(
        "INSERT INTO upload_count (slot_id, state, number) SELECT slot_id, state, count(*)"
        " FROM upload WHERE removed IS NULL GROUP BY slot_id, state"
    )
    for old in ("ix_upload_slot_id", "ix_upload_removed", "ix_upload_state"):
        op.drop_index(old, "upload")
    op.create_index("ix_upload_feed", "upload", ["removed", "id"])
    op.create_index("ix_upload_feed_of_state", "upload", ["state", "removed", "id"])
    op.create_index(
        "ix_upload_feed_of_slot",
        "upload",
        ["slot_id", "removed", "id", "state", "original_gone", "slot_treatment"],
    )
