"""Events at rest: immutable Parquet files, one manifest, an append-only ledger."""

from fermata.archive.manifest import LogState, Manifest, SourceFile
from fermata.archive.store import Archive, Snapshot

__all__ = ["Archive", "LogState", "Manifest", "Snapshot", "SourceFile"]
