"""People, their sign-ins and links, and the trail of who did what"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op


revision = '0009'
down_revision = '0008'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        'person',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('name', sa.String(length=80), nullable=False),
        sa.Column('name_key', sa.String(length=320), nullable=False),
        sa.Column('roles', sa.JSON(), nullable=False),
        sa.Column('passphrase', sa.String(), nullable=False),
        sa.Column('account', sa.String(), nullable=True),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.PrimaryKeyConstraint('id'),
        sa.UniqueConstraint('name_key'),
        sa.UniqueConstraint('account'),
    )
    op.create_table(
        'sign_in',
        sa.Column('digest', sa.String(), nullable=False),
        sa.Column('person_id', sa.String(), nullable=False),
        sa.Column('device', sa.String(), nullable=False),
        sa.Column('created', sa.DateTime(timezone=True), nullable=False),
        sa.Column('ends', sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(['person_id'], ['person.id']),
        sa.PrimaryKeyConstraint('digest'),
    )
    op.create_index(op.f('ix_sign_in_person_id'), 'sign_in', ['person_id'])
    op.create_index(op.f('ix_sign_in_ends'), 'sign_in', ['ends'])
    op.create_table(
        'person_link',
        sa.Column('digest', sa.String(), nullable=False),
        sa.Column('person_id', sa.String(), nullable=False),
        sa.Column('ends', sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(['person_id'], ['person.id']),
        sa.PrimaryKeyConstraint('digest'),
    )
    op.create_index(op.f('ix_person_link_person_id'), 'person_link', ['person_id'])
    op.create_table(
        'trail',
        sa.Column('id', sa.String(), nullable=False),
        sa.Column('time', sa.DateTime(timezone=True), nullable=False),
        sa.Column('who', sa.String(), nullable=False),
        sa.Column('person_id', sa.String(), nullable=False),
        sa.Column('address', sa.String(), nullable=False),
        sa.Column('kind', sa.String(), nullable=False),
        sa.Column('subject', sa.String(), nullable=False),
        sa.Column('detail', sa.String(), nullable=False),
        sa.PrimaryKeyConstraint('id'),
    )
    op.create_index(op.f('ix_trail_kind'), 'trail', ['kind'])
    for table in ('step', 'run'):
        op.add_column(table, sa.Column('who', sa.String(), server_default='', nullable=False))


def downgrade() -> None:
    for table in ('step', 'run'):
        op.drop_column(table, 'who')
    for table in ('trail', 'person_link', 'sign_in', 'person'):
        op.drop_table(table)
