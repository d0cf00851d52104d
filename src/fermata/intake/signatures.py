"""Files that are no logs as they stand, told by their first bytes: what each is, and what to do with it."""

from __future__ import annotations

from pathlib import Path

from fermata.errors import SourceError

__all__ = ["LOOK", "refuse", "refuse_unknown"]

LOOK = 512  # bytes to look at
TABLE = "export its table as delimited text or as a workbook"
UNPACK = "unpack it, or pack its files as a zip archive"
PARQUET = "write it as Parquet"
BEGINNINGS = (  # where, what stands there, what it is, what to do
    (0, b"%PDF-", "a PDF document", "have the list exported as delimited text or as a workbook"),
    (0, b"{\\rtf", "a text document (RTF)", "have the list exported as delimited text or as a workbook"),
    (0, b"\x89PNG", "a picture", "a log is needed as text"),
    (0, b"\xff\xd8\xff", "a picture", "a log is needed as text"),
    (0, b"GIF87a", "a picture", "a log is needed as text"),
    (0, b"GIF89a", "a picture", "a log is needed as text"),
    (0, b"Rar!\x1a", "a RAR archive", UNPACK),
    (0, b"7z\xbc\xaf\x27\x1c", "a 7z archive", UNPACK),
    (257, b"ustar\x00", "a tar archive", UNPACK),
    (257, b"ustar  \x00", "a tar archive", UNPACK),
    (0, b"ElfFile\x00", "an event log of Windows in its own form (EVTX)", "export its events as XML"),
    (
        0,
        b"LPKSHHRH",
        "a journal of systemd in its own form",
        "write it out: journalctl -o json --file=FILE > log.jsonl",
    ),
    (0, b"\x00\x01\x00\x00Standard Jet DB", "a database of Access", TABLE),
    (0, b"\x00\x01\x00\x00Standard ACE DB", "a database of Access", TABLE),
    (0, b"Obj\x01", "an Avro file", PARQUET),
    (0, b"ARROW1\x00\x00", "an Arrow file", PARQUET),
    (0, b"\xd4\xc3\xb2\xa1", "a capture of network packets", "export what is needed of it as text"),
    (0, b"MZ\x90\x00", "a program", "a log is needed"),
    (0, b"\x7fELF", "a program", "a log is needed"),
)
PRINTED = bytes({*range(32, 256), *b"\x01\x02\x03\t\n\r\f\x1b\x1c\x1d\x1e\x1f"})  # some separate columns
NO_TEXT = 0.05  # of the bytes may be others in a text that is spoiled


def refuse(head: bytes, shown: Path) -> None:
    """Raises SourceError where the first bytes of what should be text are those of something else."""
    for at, sign, what, better in BEGINNINGS:
        if head[at : at + len(sign)] == sign:
            raise SourceError(f"{shown}: is {what}, and no log that can be read; {better}")


def refuse_unknown(head: bytes, shown: Path) -> None:
    """The same, and where they are of no text at all: for a file of which nobody has said how it is written."""
    refuse(head, shown)
    if head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return
    head = head[:LOOK]
    most = NO_TEXT * len(head)
    fewer, more = sorted((head[::2].count(0), head[1::2].count(0)))
    wide = fewer <= most and more > len(head) / 6  # UTF-16 without a mark: every second byte of most texts
    if not wide and len(head.translate(None, PRINTED)) > most:
        raise SourceError(f"{shown}: is no text, and of no form that is known here; have the log written as text")
