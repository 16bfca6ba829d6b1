"""Values too large for one short transaction, kept in pieces; the rows that they belong to name them."""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

OWNERS = {"sealed": "parquet", "original": "gzip", "attachment": "content"}


def upgrade() -> None:
    """Add them; what is kept in one row stays there."""
    op.create_table(
        "large",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("owner", sa.String(), nullable=False),
        sa.Column("begun", sa.String(), nullable=False),
        sqlite_autoincrement=True,
    )
    op.create_table(
        "piece",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("large_id", sa.Integer(), sa.ForeignKey("large.id"), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("content", sa.LargeBinary(), nullable=False),
    )
    op.create_index("ix_piece_large_id", "piece", ["large_id"])
    for table in OWNERS:
        op.execute(f"ALTER TABLE {table} ADD COLUMN large_id INTEGER REFERENCES large (id)")
        # it stands behind the bytes of a row: without an index each look for it would go through all of them
        op.create_index(f"ix_{table}_large_id", table, ["large_id"])


def downgrade() -> None:
    """Put the pieces together again into the rows that they belong to."""
    line = op.get_bind()
    for table, column in OWNERS.items():
        key = "id" if table == "attachment" else "run_id"
        for number, large_id in line.execute(
            sa.text(f"SELECT {key}, large_id FROM {table} WHERE large_id IS NOT NULL")
        ).all():
            parts = line.execute(
                sa.text("SELECT content FROM piece WHERE large_id = :of ORDER BY place"), {"of": large_id}
            ).scalars()
            line.execute(
                sa.text(f"UPDATE {table} SET {column} = :whole, large_id = NULL WHERE {key} = :number"),
                {"whole": b"".join(parts), "number": number},
            )
        op.drop_index(f"ix_{table}_large_id", table)
        op.drop_column(table, "large_id")
    op.drop_index("ix_piece_large_id", "piece")
    op.drop_table("piece")
    op.drop_table("large")
