"""What goes wrong in an engine, in words that say what to do."""

from __future__ import annotations

from fermata.errors import ArchiveDamaged, DataError, FermataError, TooLarge

__all__ = ["first_line", "foreign", "gone"]

SERVER_GONE = (  # how Spark's client says that its server, or its session there, is no more
    "retries_exceeded", "unavailable", "failed to connect", "invalid_handle.session", "session_not_found",
    "session_closed", "session_changed", "answer from java side is empty", "error while sending or receiving",
    "network error", "connection refused",
)  # fmt: skip


def first_line(error: Exception) -> str:
    """What an error says first."""
    return str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__


def gone(error: Exception) -> bool:
    """Whether Spark has stopped answering."""
    return any(words in first_line(error).lower() for words in SERVER_GONE)


def foreign(error: Exception) -> FermataError:
    """An engine's error in Fermata's terms."""
    text = first_line(error)
    if "out of range" in text.lower() or "overflow" in text.lower():
        return TooLarge(f"a total is beyond what 64 bits hold; nothing was rounded ({text})")
    if "io error" in text.lower() or "no files found" in text.lower():
        return ArchiveDamaged(f"a file the manifest names cannot be read; restore the archive from a backup ({text})")
    if "out of memory" in text.lower():
        return DataError(f"the engine ran out of its memory limit; take a shorter period or fewer groups ({text})")
    if "statement timeout" in text.lower():
        return DataError(
            "a question took longer than the database may take (timeout in [logs.NAME.database]); take a shorter "
            "period, or give the "
            "table an index on the column of its time"
        )
    if "lock timeout" in text.lower():
        return DataError(
            "the table of the log is locked by another session of the database; ask again when that has ended"
        )
    if "path_not_found" in text.lower() or "path does not exist" in text.lower():
        return DataError(
            f"the workers of Spark do not find the archive; correct archive in [workspace.engine] ({text})"
        )
    if any(
        t in text.lower()
        for t in ("connection is lost", "connection is closed", "terminating connection", "server closed")
    ):
        return DataError(
            f"the database of [logs.NAME.database] has ended the connection; ask again when it runs ({text})"
        )
    return DataError(f"the engine failed: {text}")
