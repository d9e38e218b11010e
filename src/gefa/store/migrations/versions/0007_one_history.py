"""One history for plans, recipes and settings, in place of three"""

from __future__ import annotations

import json
import secrets
from datetime import UTC, datetime
from typing import Any

import sqlalchemy as sa
from alembic import op


revision = '0007'
down_revision = '0006'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'step',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('subject', sa.String(), nullable=False),
        sa.Column('number', sa.Integer(), nullable=False),
        sa.Column('content', sa.JSON(), nullable=False),
        sa.Column('said', sa.String(), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('subject', 'number'),
    )
    op.create_table(
        'history',
        sa.Column('subject', sa.String(), nullable=False),
        sa.Column('number', sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint('subject'),
    )
    _forget_old_reports()
    _carry_plans_over()
    _carry_lists_over("SELECT 'recipe ' || name, content, earlier, 'content' FROM recipe")
    _carry_lists_over("SELECT 'slot ' || id, own, earlier, 'own' FROM slot")
    _carry_lists_over("SELECT 'site', defaults, earlier, 'own' FROM site")
    op.drop_index('ix_plan_step_source_id', 'plan_step')
    op.drop_table('plan_step')
    op.drop_column('source', 'step')
    for table in ('recipe', 'slot', 'site'):
        op.drop_column(table, 'earlier')


def _forget_old_reports() -> None:
    """Reports of cuts had measurements in them, of another form; trials are made again."""
    connection = op.get_bind()
    connection.execute(sa.text(
        "UPDATE job SET report = json_remove(report, '$.facts', '$.made') WHERE kind = 'CUT'"
    ))
    connection.execute(sa.text(
        "DELETE FROM job WHERE kind IN ('TRY', 'TRIAL') AND state != 'QUEUED'"
    ))


def _carry_plans_over() -> None:
    connection = op.get_bind()
    connection.execute(sa.text(
        "INSERT INTO step (id, subject, number, content, said, created)"
        " SELECT id, 'plan ' || source_id, number, plan, said, created FROM plan_step"
    ))
    connection.execute(sa.text(
        "INSERT INTO history (subject, number) SELECT 'plan ' || id, step FROM source"
        " WHERE step > 0 OR id IN (SELECT source_id FROM plan_step)"
    ))


def _carry_lists_over(question: str) -> None:
    """Each list holds what a thing was before its changes, the newest last; what it is now comes
    after them. Where the first is not empty, steps before it were forgotten: numbers begin at 2, so
    that nobody goes back behind it."""
    for subject, now, earlier, field in op.get_bind().execute(sa.text(question)).all():
        steps: list[dict[str, Any]] = json.loads(earlier)
        if not steps and not json.loads(now):
            continue
        contents = [step[field] for step in steps] + [json.loads(now)]
        words = [""] + [str(step["said"]) for step in steps]
        first = 1 if contents[0] else 0
        for number, (content, said) in enumerate(zip(contents, words, strict=True), first + first):
            if number > 0:
                _insert(subject, number, content, said)
        op.get_bind().execute(
            sa.text("INSERT INTO history (subject, number) VALUES (:subject, :number)"),
            {"subject": subject, "number": len(steps) + first + first},
        )


def _insert(subject: str, number: int, content: object, said: str) -> None:
    op.get_bind().execute(
        sa.text("INSERT INTO step (id, subject, number, content, said, created)"
                " VALUES (:id, :subject, :number, :content, :said, :now)"),
        {"id": secrets.token_hex(14), "subject": subject, "number": number,
         "content": json.dumps(content), "said": said,
         "now": datetime.now(UTC).isoformat(sep=" ")},
    )


def downgrade() -> None:
    raise NotImplementedError("a history holds more than the old tables can")
