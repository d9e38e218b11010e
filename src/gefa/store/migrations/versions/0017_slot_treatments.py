"""The slot's part of an upload's treatment is a column, and blobs are looked for by an index."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column(
        "upload", sa.Column("slot_treatment", sa.String(), server_default="", nullable=False)
    )
    op.create_index("ix_upload_blob", "upload", ["blob"])
    op.create_index("ix_revision_blob", "revision", ["blob"])
    op.create_index("ix_variant_sha256", "variant", ["sha256"])
