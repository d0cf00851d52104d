"""Results to something to look at: one module per form, all fed by the same grid."""

from __future__ import annotations

import contextlib
import functools
import importlib
import io
import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from importlib.metadata import EntryPoint, entry_points
from pathlib import Path
from typing import IO, Any

from fermata.errors import DataError, FermataError, RequestError, UnknownName
from fermata.outputs.writing import Progress, handed, silent
from fermata.reports.definition.display import Display
from fermata.reports.result import Answer

__all__ = [
    "BINARY",
    "FORMS",
    "form_of",
    "goes_by",
    "handed",
    "known",
    "refuse_unused",
    "render",
    "save",
    "whole",
    "write",
]

LOOK = ("clock", "seconds", "durations", "decimal", "dates")  # how a figure looks
CHOSEN = ("columns", "times", "author")
PAPER = ("orientation", "paper")
PICTURE = ("clock", "decimal", "dates", "author", "chart")
ALL = (*LOOK, *CHOSEN, "chart")
FORMS: dict[str, tuple[str, dict[str, Any], tuple[str, ...]]] = {
    # form -> the function that writes it, its arguments, and what it goes by: display choices, and a chart
    "txt": ("text.write", {}, ALL),
    "csv": ("delimited.write", {}, (*CHOSEN, "spreadsheet")),
    "tsv": ("delimited.write", {"delimiter": "\t"}, (*CHOSEN, "spreadsheet")),
    "json": ("json.write", {}, CHOSEN),
    "jsonl": ("json.lines", {}, CHOSEN),
    "xml": ("xml.write", {}, CHOSEN),
    "md": ("markdown.write", {}, (*LOOK, *CHOSEN)),
    "html": ("html.write", {}, ALL),
    "pdf": ("pdf.write", {}, (*ALL, *PAPER, "pages")),
    "xlsx": ("xlsx.write", {}, (*(k for k in ALL if k != "decimal"), *PAPER)),  # who opens it has a decimal mark
    "parquet": ("parquet.write", {}, CHOSEN),
    "png": ("charts.write", {"form": "png"}, PICTURE),
    "svg": ("charts.write", {"form": "svg"}, PICTURE),
}
CALLED = {  # endings of what comes near
    "xls": "xlsx", "xlsm": "xlsx", "ods": "xlsx", "doc": "pdf", "docx": "pdf", "odt": "pdf", "htm": "html",
    "text": "txt", "markdown": "md", "ndjson": "jsonl", "jpg": "png", "jpeg": "png", "gif": "png",
    "tab": "tsv", "pq": "parquet",
}  # fmt: skip
BINARY = ("pdf", "xlsx", "parquet", "png")
Write = Callable[[Answer, IO[bytes], Display, Progress], None]


def form_of(path: Path) -> str:
    """The form a file's ending names. Raises RequestError."""
    ending = path.suffix.removeprefix(".").lower()
    if known(ending):
        return ending
    said = f"{path} has the ending {path.suffix!r}" if path.suffix else f"{path} has no ending"
    meant = f"did you mean {path.with_suffix('.' + CALLED[ending])}? There" if ending in CALLED else "there"
    raise RequestError(f"{said}, which names no form; {meant} are {', '.join((*FORMS, *_outside()))}")


def known(form: str) -> bool:
    """Whether there is a form of that name: one of ours, or one that another package declares as `fermata.outputs`."""
    return form in FORMS or form in _outside()


@functools.cache
def _outside() -> dict[str, EntryPoint]:
    """The forms from outside: a function `write(answer, out, how, progress)` each, by the ending of its files."""
    return {e.name: e for e in entry_points(group="fermata.outputs")}


def goes_by(form: str, *, spreadsheet: bool = False) -> tuple[str, ...]:
    """What a form goes by: display choices, and `chart`. One from outside may go by anything."""
    if form not in FORMS:
        return (*ALL, *PAPER, "pages", "spreadsheet")
    own = FORMS[form][2]
    return (*LOOK, *own) if spreadsheet and "spreadsheet" in own else own


def refuse_unused(keys: Iterable[str], forms: Sequence[str], *, spreadsheet: bool = False) -> None:
    """Raises RequestError for a display choice, or `chart`, that none of the forms goes by: it would have no effect."""
    for key in keys:
        if not any(key in goes_by(form, spreadsheet=spreadsheet) for form in forms):
            others = ", ".join(form for form in FORMS if key in goes_by(form))
            others += ", and in csv and tsv with spreadsheet=yes" if key in LOOK else ""
            raise RequestError(f"{key} has no effect in {', '.join(forms)}; it has in {others}")


def writer(form: str) -> Write:
    """What writes a form. Raises UnknownName."""
    if form not in FORMS:
        if not known(form):
            raise UnknownName.of("output form", form, [*FORMS, *_outside()])
        outside: Write = _outside()[form].load()
        return outside
    place, told, _ = FORMS[form]
    module, name = place.split(".")
    found: Write = getattr(importlib.import_module(f"fermata.outputs.{module}"), name)
    return functools.partial(found, **told) if told else found


def write(item: Answer, out: IO[bytes], form: str, how: Display | None = None, progress: Progress = silent) -> None:
    """Writes the output to a binary stream, piece by piece, without commands for a terminal. Raises UnknownName,
    RequestError.
    """
    writer(form)(handed(item), out, how or Display(), progress)


def render(item: Answer, form: str, how: Display | None = None) -> str:
    """The output of a form that is text. Raises UnknownName, RequestError."""
    if form in BINARY:
        raise RequestError(f"{form} is no text; save it to a file")
    out = io.BytesIO()
    write(item, out, form, how)
    return out.getvalue().decode()


def save(
    item: Answer, path: Path, form: str | None = None, how: Display | None = None, progress: Progress = silent
) -> Path:
    """Writes the output whole or not at all; the form is the file's ending unless given."""
    form = form or form_of(path)
    if form == "html":
        _beside(item, path, how)
    with whole(path) as out:
        write(item, out, form, how, progress)
    return path


@contextlib.contextmanager
def whole(path: Path) -> Iterator[IO[bytes]]:
    """A file that is there once all of it is written, and stays as it was otherwise. Raises DataError."""
    aside = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        with aside.open("wb") as out:
            yield out
        aside.replace(path)
    except FermataError:
        raise
    except OSError as e:
        raise DataError(f"{path}: cannot be written: {e.strerror or e}") from None
    finally:
        aside.unlink(missing_ok=True)


def _beside(item: Answer, path: Path, how: Display | None) -> None:
    """All rows of a listing that is longer than a page may be, as CSV beside the page."""
    from fermata.outputs import html

    if html.kept(item, how or Display()):
        save(item, path.with_suffix(".csv"), "csv", how)
