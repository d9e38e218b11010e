"""One plan for the site: its recipes are shared, sources can be moved and had back"""

from __future__ import annotations

import json
import re
import secrets
from typing import Any

import sqlalchemy as sa
from alembic import op


revision = '0012'
down_revision = '0011'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column('step', sa.Column('batch', sa.String(), nullable=False, server_default=''))
    op.create_index(op.f('ix_step_batch'), 'step', ['batch'])
    op.add_column('source', sa.Column('removed', sa.DateTime(timezone=True), nullable=True))
    op.create_index(op.f('ix_source_removed'), 'source', ['removed'])
    with op.batch_alter_table('run_source') as table:
        for name in ('name', 'basis'):
            table.add_column(sa.Column(name, sa.String(), nullable=False, server_default=''))
        for name in ('cuts', 'files', 'bytes', 'served', 'baseline'):
            table.add_column(sa.Column(name, sa.Integer(), nullable=False, server_default='0'))
        table.add_column(sa.Column('failed', sa.Boolean(), nullable=False, server_default='0'))
        table.add_column(sa.Column('recipes', sa.JSON(), nullable=False, server_default='{}'))
    op.execute(
        "UPDATE run_source SET name ="
        " coalesce((SELECT name FROM source WHERE source.id = run_source.source_id), '')"
    )
    op.create_table(
        'outlook',
        sa.Column('source_id', sa.String(), nullable=False),
        sa.Column('basis', sa.String(), nullable=False),
        sa.Column('cuts', sa.Integer(), nullable=False),
        sa.Column('files', sa.Integer(), nullable=False),
        sa.Column('bytes', sa.Integer(), nullable=False),
        sa.Column('recipes', sa.JSON(), nullable=False),
        sa.Column('problem', sa.String(), nullable=False),
        sa.ForeignKeyConstraint(['source_id'], ['source.id']),
        sa.PrimaryKeyConstraint('source_id'),
    )
    _share_recipes()


def _share_recipes() -> None:
    """Recipes that the plan of one source had are of the site now. Where another of the name is
    there, it is called after its source, and the plan names it so."""
    connection = op.get_bind()
    stored = {
        name: json.loads(content)
        for name, content in connection.execute(sa.text('SELECT name, content FROM recipe'))
    }
    sources = {
        id: name for id, name in connection.execute(sa.text('SELECT id, name FROM source'))
    }
    steps = connection.execute(sa.text(
        "SELECT step.id, step.subject, step.content FROM step"
        " WHERE step.subject LIKE 'plan %' AND step.content LIKE '%\"recipes\"%'"
        " ORDER BY step.subject, step.number DESC"
    )).all()
    for step_id, subject, content in steps:
        plan = json.loads(content)
        source = sources.get(subject.removeprefix('plan '), 'source')
        for name, recipe in plan.pop('recipes', {}).items():
            kept = name
            if stored.get(name) not in (None, {}, recipe):
                stem = re.sub(r'[^A-Za-z0-9_-]+', '-', source.rpartition('/')[2].partition('.')[0])
                kept = f'{name}-{stem}'[:60]
                _rename(plan, name, kept)
            if kept not in stored or stored[kept] == {}:
                stored[kept] = recipe
                _store(kept, recipe)
        connection.execute(
            sa.text('UPDATE step SET content = :content WHERE id = :id'),
            {'content': json.dumps(plan), 'id': step_id},
        )


def _store(name: str, recipe: dict[str, Any]) -> None:
    connection = op.get_bind()
    values = {'id': secrets.token_hex(14), 'name': name, 'content': json.dumps(recipe)}
    connection.execute(sa.text('DELETE FROM recipe WHERE name = :name'), values)
    connection.execute(
        sa.text("INSERT INTO recipe (id, name, content, changed)"
                " VALUES (:id, :name, :content, CURRENT_TIMESTAMP)"),
        values,
    )


def _rename(plan: dict[str, Any], before: str, after: str) -> None:
    if plan.get('default') == before:
        plan['default'] = after
    for kind in ('rules', 'cuts', 'slices'):
        for entry in plan.get(kind, ()):
            for place in (entry, *entry.get('cells', {}).values()):
                if place.get('recipe') == before:
                    place['recipe'] = after


def downgrade() -> None:
    raise NotImplementedError('sources that were moved have no place in what was before')
