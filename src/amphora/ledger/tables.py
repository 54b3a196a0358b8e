"""The ledger's tables. Forms and other structured values are stored as JSON text."""

from __future__ import annotations

from sqlalchemy import Column, ForeignKey, Integer, MetaData, String, Table, Text, UniqueConstraint

metadata = MetaData()

facts = Table(
    "facts",
    metadata,
    Column("name", String, primary_key=True),
    Column("value", Text, nullable=False),
)

exports = Table(
    "exports",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("at", String, nullable=False),
    Column("environment", String, nullable=False),
    Column("uid", String, nullable=False),
    Column("package", String, nullable=False),
    Column("version", String, nullable=False),
    Column("contents_digest", String, nullable=False),
    Column("package_digest", String, nullable=False),
    Column("file", String, nullable=False),
    Column("layout_digest", String, nullable=False, default=""),
)

exported = Table(
    "exported",
    metadata,
    Column("export_id", ForeignKey("exports.id"), primary_key=True),
    Column("key", String, primary_key=True),
    Column("form", Text, nullable=False),
    Column("states", Text, nullable=False),
)

links = Table(
    "links",
    metadata,
    Column("key", String, primary_key=True),
    Column("uid", String, primary_key=True),
    Column("native_id", String, nullable=False),
    Column("inner", Text, nullable=False),
    Column("link", String, nullable=False),
    UniqueConstraint("uid", "native_id"),
)

runs = Table(
    "runs",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", String, nullable=False, unique=True),
    Column("environment", String, nullable=False),
    Column("uid", String, nullable=False),
    Column("package", String, nullable=False),
    Column("version", String, nullable=False),
    Column("source_uid", String, nullable=False),
    Column("package_digest", String, nullable=False),
    Column("account", String, nullable=False),
    Column("state", String, nullable=False),
    Column("started_at", String, nullable=False),
    Column("ended_at", String),
    Column("note", Text, nullable=False, default=""),
)

steps = Table(
    "steps",
    metadata,
    Column("run_id", ForeignKey("runs.id"), primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("do", String, nullable=False),
    Column("keys", Text, nullable=False),
    Column("intent", Text, nullable=False),
    Column("state", String, nullable=False),
    Column("outcome", Text, nullable=False),
    Column("at", String, nullable=False),
)

deliveries = Table(
    "deliveries",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("run_id", ForeignKey("runs.id"), nullable=False),
    Column("at", String, nullable=False),
    Column("uid", String, nullable=False, index=True),
    Column("key", String, nullable=False),
    Column("native_id", String, nullable=False),
    Column("package", String, nullable=False),
    Column("source_uid", String, nullable=False),
    Column("version", String, nullable=False),
    Column("form", Text, nullable=False),
    Column("states", Text, nullable=False),
    Column("merged", Text, nullable=False),
    Column("merged_states", Text, nullable=False),
    Column("bindings", Text, nullable=False),
)

claims = Table(
    "claims",
    metadata,
    Column("package", String, primary_key=True),
    Column("source_uid", String, primary_key=True),
    Column("key", String, primary_key=True),
    Column("uid", String, primary_key=True),
    Column("custody", String, nullable=False),
)
