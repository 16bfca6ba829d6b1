"""The place of a claim among those of its sample, where somebody has put them in order; a sample's serial and date code."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add them; without a place a claim stands where it was typed."""
    op.add_column("claim", sa.Column("place", sa.Integer(), nullable=True))
    for name in ("serial", "date_code"):
        op.add_column("sample", sa.Column(name, sa.String(), nullable=False, server_default=""))


def downgrade() -> None:
    """Take them away."""
    op.drop_column("claim", "place")
    for name in ("serial", "date_code"):
        op.drop_column("sample", name)
