"""What is told beside a reading: a second meter, counters, cells; JSON by name."""

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    """Add the column."""
    op.add_column("reading", sa.Column("beside", sa.Text(), nullable=True))


def downgrade() -> None:
    """Take it away."""
    op.drop_column("reading", "beside")
