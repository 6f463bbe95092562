"""Tables of the store, and its version. Nothing here or below depends on what tool and driver say to each other."""

from __future__ import annotations

from sqlalchemy import Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, String, Table, Text

SCHEMA_VERSION = 3

metadata = MetaData()

meta = Table("meta", metadata, Column("key", String(40), primary_key=True), Column("value", Text, nullable=False))

# Ids are UUIDs of version 7: unique everywhere, and in the order of their making.
studies = Table(
    "studies",
    metadata,
    Column("id", String(36), primary_key=True),
    Column("name", String(64), nullable=False, index=True),
    Column("question", Text, nullable=False),
    Column("plan_key", String(64), nullable=False, index=True),
    Column("plan", Text, nullable=False),
    Column("source", Text, nullable=False),
    Column("created_s", Float, nullable=False),
)

runs = Table(
    "runs",
    metadata,
    Column("id", String(36), primary_key=True),
    Column("study", String(36), ForeignKey("studies.id"), nullable=False, index=True),
    Column("number", Integer, nullable=False),
    Column("state", String(16), nullable=False),
    Column("facts", Text, nullable=False),
    Column("simulated", Integer, nullable=False),
    Column("created_s", Float, nullable=False),
    # Who measures it, and when they last said so.
    Column("holder", String(200)),
    Column("heartbeat_s", Float),
    # What the shelf says of it, so that its figures need not be read to list it; and under which definitions.
    Column("answer", Text),
    Column("answer_by", String(40)),
    # When a person threw it away; it can be taken back for a while.
    Column("removed_s", Float),
    # The id it had in a store of version 1.
    Column("former_id", String(120), index=True),
)

# What a person decided while it ran; rows are only ever added.
decisions = Table(
    "decisions",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run", String(36), ForeignKey("runs.id"), nullable=False, index=True),
    Column("body", Text, nullable=False),
)

repeats = Table(
    "repeats",
    metadata,
    Column("id", String(36), primary_key=True),
    Column("run", String(36), ForeignKey("runs.id"), nullable=False),
    Column("seq", Integer, nullable=False),
    Column("cell", String(64), nullable=False),
    Column("levels", Text, nullable=False),
    Column("block", Integer, nullable=False),
    Column("concurrency", Integer, nullable=False),
    Column("state", String(16), nullable=False),
    Column("launch", Text),
    Column("facts", Text),
    Column("episode", Text),
    Column("trace", LargeBinary),
    Column("failure", Text),
    Index("repeats_by_cell", "run", "cell", "seq"),
)

# Finished requests land here one by one, so that a kill loses none; every few hundred become one block.
journal = Table(
    "journal",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run", String(36), nullable=False, index=True),
    Column("repeat", String(36), nullable=False, index=True),
    Column("body", LargeBinary, nullable=False),
)

blocks = Table(
    "blocks",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run", String(36), nullable=False, index=True),
    Column("requests", Integer, nullable=False),
    Column("body", LargeBinary, nullable=False),
)

# Which blocks hold requests of which repeats, so that one cell can be read alone.
block_repeats = Table(
    "block_repeats",
    metadata,
    Column("repeat", String(36), primary_key=True),
    Column("block", Integer, ForeignKey("blocks.id"), primary_key=True),
)

# What is told of a cell, under the definitions it was computed by; remade where it is missing or of other definitions.
summaries = Table(
    "summaries",
    metadata,
    Column("run", String(36), ForeignKey("runs.id"), primary_key=True),
    Column("cell", String(64), primary_key=True),
    Column("definitions", Integer, nullable=False),
    Column("done", Integer, nullable=False),
    Column("failed", Integer, nullable=False),
    Column("body", LargeBinary, nullable=False),
)

notes = Table(
    "notes",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run", String(36), nullable=False, index=True),
    Column("cell", String(64)),
    Column("text", Text, nullable=False),
    Column("created_s", Float, nullable=False),
)
