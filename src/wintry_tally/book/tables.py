"""The book's tables. docs/formats.md describes them for readers without this program."""

from __future__ import annotations

from sqlalchemy import Boolean, Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text

REVISIONS = ("0001", "0002", "0003", "0004", "0005", "0006", "0007", "0008", "0009")
"""Every state its tables have been in, oldest first."""
HEAD = REVISIONS[-1]
"""The newest migration's revision; a test holds it against the migrations folder."""

metadata = MetaData()

meta = Table("meta", metadata, Column("key", String, primary_key=True), Column("value", Text, nullable=False))

sample = Table(
    "sample",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("code", String, nullable=False, unique=True),
    Column("maker", String, nullable=False, default=""),
    Column("model", String, nullable=False, default=""),
    Column("family", String, nullable=False),
    Column("nominal_V", Float),
    Column("rested_V", Float),
    Column("rested", Boolean, nullable=False, default=True),
    Column("mass_kg", Float),
    Column("mass_limit_kg", Float),
    Column("obtained", String, nullable=False, default=""),
    Column("serial", String, nullable=False, default="", server_default=""),
    Column("date_code", String, nullable=False, default="", server_default=""),
    Column("received", String, nullable=False, default=""),
    Column("tight", Boolean),
    Column("polarity", Boolean),
    Column("notes", Text, nullable=False, default=""),
    Column("prose", Text, nullable=False, default=""),
    Column("removed", Boolean, nullable=False, default=False),
)

claim = Table(
    "claim",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("sample_id", ForeignKey("sample.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("kind", String, nullable=False),
    Column("value", Float),
    Column("unit", String, nullable=False),
    Column("direction", String, nullable=False),
    Column("tolerance", Float, nullable=False, default=0.0),
    Column("conditions", Text, nullable=False, default="{}"),
    Column("source", String, nullable=False),
    Column("dated", String, nullable=False, default=""),
    Column("text", Text, nullable=False, default=""),
    Column("wanted", Boolean),
    Column("place", Integer),
)

run = Table(
    "run",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("sample_id", ForeignKey("sample.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("station", String, nullable=False),
    Column("title", String, nullable=False),
    Column("method", String, nullable=False),
    Column("status", String, nullable=False),
    Column("started_utc", String, nullable=False),
    Column("ended_utc", String, nullable=False, default=""),
    Column("recipe", Text, nullable=False, default="{}"),
    Column("settings", Text, nullable=False, default="{}"),
    Column("state", Text, nullable=False, default="{}"),
    Column("bench", Text, nullable=False, default="{}"),
    Column("cause", String, nullable=False, default=""),
    Column("detail", Text, nullable=False, default=""),
    Column("owner", String, nullable=False, default=""),
    Column("lease", String),
    Column("left_out", Boolean, nullable=False, default=False),
    Column("repair", String, nullable=False, default="safe"),
    Column("original_name", String, nullable=False, default=""),
)

change = Table(
    "change",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("origin", String, nullable=False),
    Column("topic", String, nullable=False),
    Column("sample_id", Integer),
    sqlite_autoincrement=True,
)

sealed = Table(
    "sealed",
    metadata,
    Column("run_id", ForeignKey("run.id", ondelete="CASCADE"), primary_key=True),
    Column("rows", Integer, nullable=False),
    Column("parquet", LargeBinary, nullable=False),
    Column("large_id", ForeignKey("large.id"), index=True),
)

original = Table(
    "original",
    metadata,
    Column("run_id", ForeignKey("run.id", ondelete="CASCADE"), primary_key=True),
    Column("name", String, nullable=False),
    Column("sha256", String, nullable=False),
    Column("gzip", LargeBinary, nullable=False),
    Column("large_id", ForeignKey("large.id"), index=True),
)

reading = Table(
    "reading",
    metadata,
    Column("run_id", ForeignKey("run.id", ondelete="CASCADE"), primary_key=True),
    Column("seq", Integer, primary_key=True),
    Column("elapsed_s", Float, nullable=False),
    Column("voltage_V", Float),
    Column("current_A", Float),
    Column("temperature_C", Float),
    Column("counter_Ah", Float),
    Column("note", Text),
    Column("beside", Text),
    sqlite_with_rowid=False,
)

place_reading = Table(
    "place_reading",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("place", String, nullable=False),
    Column("at_utc", String, nullable=False),
    Column("temperature_C", Float, nullable=False),
    Column("source", String, nullable=False, default=""),
    Index("ix_place_reading_place_at", "place", "at_utc"),
)

attachment = Table(
    "attachment",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("sample_id", ForeignKey("sample.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("run_id", ForeignKey("run.id", ondelete="SET NULL")),
    Column("kind", String, nullable=False),
    Column("caption", Text, nullable=False, default=""),
    Column("name", String, nullable=False),
    Column("media", String, nullable=False),
    Column("sha256", String, nullable=False),
    Column("size", Integer, nullable=False),
    Column("added_utc", String, nullable=False),
    Column("removed", Boolean, nullable=False, default=False),
    Column("small", LargeBinary, nullable=False),
    Column("content", LargeBinary, nullable=False),
    Column("large_id", ForeignKey("large.id"), index=True),
)

large = Table(
    "large",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("size", Integer, nullable=False),
    Column("owner", String, nullable=False),
    Column("begun", String, nullable=False),
    sqlite_autoincrement=True,
)

piece = Table(
    "piece",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("large_id", ForeignKey("large.id"), nullable=False, index=True),
    Column("place", Integer, nullable=False),
    Column("content", LargeBinary, nullable=False),
)

bank_unit = Table(
    "bank_unit",
    metadata,
    Column("bank_id", ForeignKey("sample.id", ondelete="CASCADE"), primary_key=True),
    Column("unit_id", ForeignKey("sample.id", ondelete="CASCADE"), primary_key=True),
    Column("place", Integer, nullable=False),
    Column("series", Integer, nullable=False),
)

event = Table(
    "event",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", ForeignKey("run.id", ondelete="CASCADE"), nullable=False, index=True),
    Column("at_s", Float, nullable=False),
    Column("kind", String, nullable=False),
    Column("message", Text, nullable=False),
)
