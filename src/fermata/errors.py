"""The errors Fermata raises. Each says what is wrong, where, and what would be right.

FermataError                   base of all; `exit_code` is what the command line returns
├── RequestError (ValueError)  the request was wrong: exit code 2
│   ├── UnknownName (LookupError)  a name that does not exist, with the nearest ones
│   └── ConfigError            a TOML file is wrong: every problem of the file at once
└── DataError                  the data, the archive or the engine failed: exit code 1
    ├── SourceError (OSError)  a log file cannot be read as declared
    │   ├── NoSuchFile (FileNotFoundError)  a file that is not there
    │   └── FilesFailed        some files of an import could not be read; the others are imported
    ├── ArchiveBusy            another import is running
    ├── ArchiveDamaged         the archive does not hold what its manifest says
    └── TooLarge (OverflowError)  a total beyond what a 64-bit integer holds
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable
from typing import Any

__all__ = [
    "ArchiveBusy",
    "ArchiveDamaged",
    "ConfigError",
    "DataError",
    "FermataError",
    "FilesFailed",
    "NoSuchFile",
    "RequestError",
    "SourceError",
    "TooLarge",
    "UnknownName",
]


SAID = {  # what others call an action or a field -> what it is called here
    **dict.fromkeys(("person", "people", "employee", "staff", "member", "name", "username", "account"), "user"),
    **dict.fromkeys(("door", "printer", "computer", "host", "machine", "reader", "terminal", "workstation"), "device"),
    **dict.fromkeys(("location", "site", "room", "building", "area"), "place"),
    **dict.fromkeys(("status", "result", "event", "type"), "action"),
    **dict.fromkeys(("called", "caller", "destination", "number", "dialled", "dialed", "remote", "party"), "other"),
    **dict.fromkeys(("cost", "price", "fee"), "charge"),
    "denied": "refused", "rejected": "refused", "no entry": "refused", "entry": "in", "exit": "out",
    "unanswered": "missed", "no answer": "missed", "connected": "answered", "logon": "login", "logoff": "logout",
    "deny": "refused",
}  # fmt: skip


class FermataError(Exception):
    """Base of every error Fermata raises on purpose."""

    exit_code = 1


class RequestError(FermataError, ValueError):
    """What was asked for makes no sense as asked."""

    exit_code = 2


class NotForViewers(RequestError, AttributeError):
    """Something that a viewer's workspace does not have."""


class NeedsMore(RequestError):
    """A report needs `what` the workspace does not have ("a log of printing", "fields of calls"): these `parts`."""

    def __init__(self, text: str, what: str, parts: Iterable[str] = ()) -> None:
        super().__init__(text)
        self.what, self.parts = what, tuple(parts)


HOW = {  # where nothing is declared
    "register": "; a list becomes one with: fermata map LIST --register NAME",
    "log": "; one is proposed by: fermata map FILE --add",
    "evacuation": "; prepare one with: fermata evacuation prepare NAME",
}


class UnknownName(RequestError, LookupError):
    """A field, log, report, value or option that does not exist."""

    @classmethod
    def of(cls, what: str, name: str, known: Iterable[str], *, where: str = "") -> UnknownName:
        """The error for `name`, with the nearest of `known` and, when few, all of them."""
        names = sorted({str(k) for k in known})
        near = nearest(name, names)
        text = f"there is no {what} {name!r}{' ' + where if where else ''}"
        several = [part.strip() for part in re.split(r"\s+or\s+|[|/;]", name)]
        if len(several) > 1 and set(several) <= set(names):
            text += f"; several are written {','.join(several)}"
        elif near:
            text += f"; did you mean {' or '.join(repr(n) for n in near)}?"
        if not names:
            text += f"; {none_declared(what)}"
        elif len(names) <= 40:
            text += f" ({plural(what)}: {', '.join(names)})"
        elif not near:
            text += f" ({len(names):,} are known, for instance {', '.join(names[:5])})"
        return cls(text)


def none_declared(what: str) -> RequestError:
    """That there is no log, register ... at all, and how to have one."""
    return RequestError(f"no {what} is declared{HOW.get(what, '')}")


def counted(n: int, word: str) -> str:
    """A number of things: `1 record`, `2,400 records`."""
    return f"{n:,} {word if n == 1 else plural(word)}"


def plural(word: str) -> str:
    """More than one of what a word names: `deliveries`, `kinds of log`."""
    head, of, tail = word.partition(" of ")
    several = f"{head[:-1]}ies" if head[-1:] == "y" and head[-2:-1] not in "aeiou" else f"{head}s"
    return f"{several}{of}{tail}"


class ConfigError(RequestError):
    """A file people write is wrong; `problems` lists all of them, each with its place."""

    def __init__(self, path: str, problems: list[str]) -> None:
        self.path = path
        self.problems = problems
        lines = "\n".join(f"  {p}" for p in problems)
        super().__init__(f"{path}: {counted(len(problems), 'problem')}\n{lines}")


class DataError(FermataError):
    """The data, the archive or the engine failed."""


class SourceError(DataError, OSError):
    """A log file cannot be read as its mapping declares."""


class NoSuchFile(SourceError, FileNotFoundError):
    """A file that is to be read is not there."""


class FilesFailed(SourceError):
    """Some files could not be imported; `done` is what became of the others, which are."""

    def __init__(self, problems: list[str], done: list[Any]) -> None:
        self.problems, self.done = problems, done
        super().__init__("\n".join(problems))


class ArchiveBusy(DataError):
    """Another import holds the archive."""


class ArchiveDamaged(DataError):
    """The archive on disk is not what its manifest says."""


class TooLarge(DataError, OverflowError):
    """An exact total does not fit 64 bits; nothing is rounded instead."""


def nearest(name: str, known: Iterable[str], n: int = 3) -> list[str]:
    """The names of `known` that are most likely meant by `name`, at most `n`: another word for the same, names that
    have it as a word, then those that look like it; case does not matter.
    """
    by_fold: dict[str, str] = {}
    for k in known:
        by_fold.setdefault(k.casefold(), k)
    folded = name.casefold()
    alike = difflib.get_close_matches(folded, list(by_fold), n=n, cutoff=0.6)
    holding = [k for k in by_fold if folded in re.split(r"[^\w]+", k)] if len(folded) > 2 else []
    same = [k for k in (SAID.get(folded), SAID.get(folded.removesuffix("s"))) if k in by_fold]
    return [by_fold[m] for m in list(dict.fromkeys([*same, *alike[:1], *holding, *alike]))[:n]]
