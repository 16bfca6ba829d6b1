"""The nominal voltage of a sample's pack; empty for the usual one of its family."""

import sqlalchemy as sa
from alembic import op

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the column."""
    op.add_column("sample", sa.Column("nominal_V", sa.Float(), nullable=True))


def downgrade() -> None:
    """Take it away."""
    op.drop_column("sample", "nominal_V")
