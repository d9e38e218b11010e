"""Plans with undo: what hands chose becomes the first step of each source's plan"""

from __future__ import annotations

import json
import secrets
from datetime import UTC, datetime
from itertools import groupby

import sqlalchemy as sa
from alembic import op


revision = '0002'
down_revision = '0001'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('plan_step',
    sa.Column('id', sa.String(), nullable=False),
    sa.Column('source_id', sa.String(), nullable=False),
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('plan', sa.JSON(), nullable=False),
    sa.Column('said', sa.String(), nullable=False),
    sa.Column('created', sa.DateTime(timezone=True), nullable=False),
    sa.ForeignKeyConstraint(['source_id'], ['source.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('source_id', 'number')
    )
    op.create_index('ix_plan_step_source_id', 'plan_step', ['source_id'], unique=False)
    op.add_column('revision', sa.Column('changes', sa.JSON(), server_default='{}', nullable=False))
    op.add_column('source', sa.Column('step', sa.Integer(), server_default='0', nullable=False))
    op.add_column('source', sa.Column('watched', sa.String(), server_default='', nullable=False))
    _carry_choices_over()
    op.drop_index('ix_choice_source_id', 'choice')
    op.drop_table('choice')


def _carry_choices_over() -> None:
    connection = op.get_bind()
    rows = connection.execute(sa.text(
        "SELECT source_id, part, name, recipe, leave_out FROM choice ORDER BY source_id, id"
    )).all()
    for source_id, chosen in groupby(rows, key=lambda row: row[0]):
        cuts = [
            {"part": part, "name": name, "recipe": recipe, "leave_out": bool(leave_out)}
            for _, part, name, recipes, leave_out in chosen
            for recipe in (recipes.split(",") if recipes else [None])
        ]
        connection.execute(
            sa.text("INSERT INTO plan_step (id, source_id, number, plan, said, created)"
                    " VALUES (:id, :source, 1, :plan, :said, :now)"),
            {"id": secrets.token_hex(14), "source": source_id, "plan": json.dumps({"cuts": cuts}),
             "said": "Chosen before", "now": datetime.now(UTC).isoformat(sep=" ")},
        )
        connection.execute(
            sa.text("UPDATE source SET step = 1 WHERE id = :source"), {"source": source_id}
        )


def downgrade() -> None:
    raise NotImplementedError("plans hold more than the old table can")
