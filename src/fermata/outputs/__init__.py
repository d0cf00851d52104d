"""Results to something to look at: one file per form, all fed by the same grid."""

from __future__ import annotations

import os
from pathlib import Path

from fermata.errors import DataError, UnknownName
from fermata.reports.result import Answer

__all__ = ["FORMS", "render", "save"]

FORMS = ("txt", "csv", "tsv", "json")


def render(item: Answer, form: str) -> str:
    """The output in one of `FORMS`. Raises UnknownName for another."""
    if form == "txt":
        from fermata.outputs import text

        return text.render(item)
    if form in ("csv", "tsv"):
        from fermata.outputs import delimited

        return delimited.render(item, delimiter="\t" if form == "tsv" else ",")
    if form == "json":
        from fermata.outputs import json

        return json.render(item)
    raise UnknownName.of("output form", form, FORMS)


def save(item: Answer, path: Path, form: str | None = None) -> Path:
    """Writes the output whole or not at all; the form is the file's ending unless given."""
    rendered = render(item, form or path.suffix.removeprefix(".").lower())
    aside = path.with_name(f".{path.name}.{os.getpid()}")
    try:
        aside.write_text(rendered, encoding="utf-8", newline="")
        aside.replace(path)
    except OSError as e:
        aside.unlink(missing_ok=True)
        raise DataError(f"{path}: cannot be written: {e.strerror}") from None
    return path
