"""Tables of the store, and its version."""

from __future__ import annotations

from sqlalchemy import Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text

SCHEMA_VERSION = 1

metadata = MetaData()

meta = Table("meta", metadata, Column("key", String, primary_key=True), Column("value", String, nullable=False))

studies = Table(
    "studies",
    metadata,
    Column("id", String, primary_key=True),
    Column("name", String, nullable=False),
    Column("question", Text, nullable=False),
    Column("plan_key", String, nullable=False, index=True),
    Column("plan", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("facts", Text, nullable=False),
    Column("created_s", Float, nullable=False),
    Column("state", String, nullable=False),
    Column("simulated", Integer, nullable=False, default=0),
    Column("runner", Integer),
)

repeats = Table(
    "repeats",
    metadata,
    Column("id", String, primary_key=True),
    Column("seq", Integer, nullable=False),
    Column("study", String, ForeignKey("studies.id"), nullable=False),
    Column("cell", Integer, nullable=False),
    Column("block", Integer, nullable=False),
    Column("concurrency", Integer, nullable=False),
    Column("state", String, nullable=False),
    Column("launch", Text),
    Column("facts", Text),
    Column("episode", Text),
    Column("trace", LargeBinary),
    Column("failure", Text),
    Column("last_words", Text),
    Index("repeats_by_study", "study", "seq"),
)

# Finished requests land here one by one, so that a kill loses none; every few hundred become one block.
journal = Table(
    "journal",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("study", String, nullable=False, index=True),
    Column("repeat", String, nullable=False),
    Column("body", LargeBinary, nullable=False),
)

blocks = Table(
    "blocks",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("study", String, nullable=False, index=True),
    Column("requests", Integer, nullable=False),
    Column("body", LargeBinary, nullable=False),
)

# What the shelf says of a study, so that its timelines need not be read to list it; remade for other definitions.
summaries = Table(
    "summaries",
    metadata,
    Column("study", String, ForeignKey("studies.id"), primary_key=True),
    Column("definitions", Integer, nullable=False),
    Column("answer", Text, nullable=False),
)

notes = Table(
    "notes",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("study", String, nullable=False, index=True),
    Column("cell", Integer),
    Column("text", Text, nullable=False),
    Column("created_s", Float, nullable=False),
)
