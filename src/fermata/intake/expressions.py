"""SQL expressions that turn a file's text columns into typed fields, and say why a text is refused.

Every expression gives NULL both for an empty text and for one that cannot be read; `refused` tells the two
apart, so nothing becomes empty silently.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.fields import Field
from fermata.intake.mapping import FieldMap

__all__ = ["Column", "Origin", "duration", "instant", "typed"]

OFFSET = r"(Z|z|[+-]\d\d(:?\d\d)?)$"
ISO_SHAPE = r"^\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?)?\s*(Z|z|[+-]\d\d(:?\d\d)?)?$"
EPOCH = {"epoch s": 1_000_000, "epoch ms": 1_000, "epoch us": 1}
MOST_EPOCH = 253_402_300_799_000_000  # the end of the year 9999, in microseconds
ISO_DURATION = r"^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)(?:\.(\d{1,6}))?S)?)?$"


@dataclass(frozen=True)
class Origin:
    """The file a record comes from: its path, and the engine's name of each of its columns."""

    file: Path
    columns: dict[str, str]


@dataclass(frozen=True, slots=True)
class Column:
    """A field's value and, as a condition, when the text there is refused; `reason` says what was wanted."""

    value: str
    refused: str = "false"
    reason: str = ""
    raw: str = "NULL"


def raw_text(field: FieldMap, origin: Origin) -> str:
    """The text of a field before any typing: NULL where it is empty."""
    if field.constant is not None:
        return lit(field.constant)
    if field.file_name is not None:
        return lit(from_name(field.file_name, origin.file))
    texts = [_trimmed(origin.columns[c]) for c in field.read_columns]
    text = texts[0] if len(texts) == 1 else f"nullif(concat_ws(' ', {', '.join(texts)}), '')"
    if field.values:
        cases = " ".join(f"WHEN {lit(k)} THEN {lit(v)}" for k, v in field.values.items())
        text = f"CASE {text} {cases} ELSE {text} END"
    return text


def from_name(pattern: str, file: Path) -> str:
    """What a field takes from the file's path. Raises SourceError if the path does not fit."""
    found = re.search(pattern, file.as_posix())
    if not found:
        raise SourceError(f"{file}: its name does not match {pattern!r}, from which a field is to come")
    return found[1] or ""


def _trimmed(column: str) -> str:
    """The text without spaces around it. Trimming every row would cost half as much as parsing the file."""
    spaced = f"starts_with({column}, ' ') OR ends_with({column}, ' ')"
    return f"CASE WHEN {spaced} THEN nullif(trim({column}), '') ELSE {column} END"


def instant(field: FieldMap, origin: Origin) -> tuple[Column, Column]:
    """A time: its wall-clock reading, and its UTC reading where the text itself tells (offset or epoch).

    Exactly one of the two is not NULL for a text that can be read.
    """
    raw = raw_text(field, origin)
    forms = field.form or ("iso",)
    local: list[str] = []
    utc: list[str] = []
    patterns = [f for f in forms if "%" in f and "%z" not in f]
    if patterns:
        forms_sql = lit(patterns[0]) if len(patterns) == 1 else f"[{', '.join(lit(p) for p in patterns)}]"
        local.append(f"try_strptime({raw}, {forms_sql})")
    for form in forms:
        if form == "iso":
            shaped = f"regexp_matches({raw}, {lit(ISO_SHAPE)})"
            has_offset = f"(regexp_matches({raw}, {lit(OFFSET)}) AND length({raw}) > 10)"
            point = f"replace({raw}, ',', '.')"
            local.append(f"CASE WHEN {shaped} AND NOT {has_offset} THEN try_cast({point} AS TIMESTAMP) END")
            zoned = f"make_timestamp(epoch_us(try_cast({point} AS TIMESTAMPTZ)))"
            utc.append(f"CASE WHEN {shaped} AND {has_offset} THEN {zoned} END")
        elif form in EPOCH:
            number = f"try_cast({raw} AS DECIMAL(38, 6)) * {EPOCH[form]}"
            utc.append(f"CASE WHEN abs({number}) < {MOST_EPOCH} THEN make_timestamp(CAST({number} AS BIGINT)) END")
        elif "%z" in form:
            utc.append(f"make_timestamp(epoch_us(CAST(try_strptime({raw}, {lit(form)}) AS TIMESTAMPTZ)))")
    wanted = " or ".join("ISO 8601" if f == "iso" else f for f in forms)
    local_sql = _coalesce(local, "TIMESTAMP")
    utc_sql = _coalesce(utc, "TIMESTAMP")
    return Column(local_sql, reason=f"is not a time written as {wanted}", raw=raw), Column(utc_sql)


def duration(field: FieldMap, origin: Origin) -> Column:
    """A length of time in whole microseconds; negative ones are refused."""
    raw = raw_text(field, origin)
    forms = field.form or ("seconds",)
    value = _coalesce([_duration_form(raw, form, field.decimal) for form in forms], "BIGINT")
    wanted = " or ".join(forms)
    return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", f"is not a duration written as {wanted}", raw)


def _duration_form(raw: str, form: str, point: str) -> str:
    if form in ("seconds", "milliseconds", "minutes", "hours"):
        scale = {"seconds": 10**6, "milliseconds": 10**3, "minutes": 6 * 10**7, "hours": 36 * 10**8}[form]
        number = f"try_cast({_plain_number(raw, point, '')} AS DECIMAL(28, 9))"
        return f"CASE WHEN {number} >= 0 THEN CAST(round({number} * {scale}, 0) AS BIGINT) END"
    if form == "iso":
        part = [
            f"coalesce(try_cast(regexp_extract({raw}, {lit(ISO_DURATION)}, {i}) AS BIGINT), 0)" for i in range(1, 5)
        ]
        fraction = f"CAST(rpad(regexp_extract({raw}, {lit(ISO_DURATION)}, 5), 6, '0') AS BIGINT)"
        total = f"((({part[0]} * 24 + {part[1]}) * 60 + {part[2]}) * 60 + {part[3]}) * 1000000 + {fraction}"
        return f"CASE WHEN regexp_matches({raw}, {lit(ISO_DURATION)}) AND length({raw}) > 2 THEN {total} END"
    shape = {
        "h:mm:ss": r"^\d+:[0-5]\d:[0-5]\d(\.\d{1,6})?$",
        "h:mm": r"^\d+:[0-5]\d$",
        "mm:ss": r"^\d+:[0-5]\d(\.\d{1,6})?$",
    }
    unit = {"h:mm:ss": (3600, 60, 1), "h:mm": (3600, 60), "mm:ss": (60, 1)}[form]
    total = " + ".join(
        f"CAST(try_cast(split_part({raw}, ':', {i}) AS DECIMAL(18, 6)) * {u * 10**6} AS BIGINT)"
        for i, u in enumerate(unit, 1)
    )
    return f"CASE WHEN regexp_matches({raw}, {lit(shape[form])}) THEN {total} END"


def typed(field: FieldMap, spec: Field, origin: Origin) -> Column:
    """A declared field's value in the type the archive stores."""
    raw = raw_text(field, origin)
    if spec.type == "text":
        return Column(raw, raw=raw)
    if spec.type == "duration":
        return duration(field, origin)
    if spec.type == "tags":
        tags = f"list_sort(list_distinct(list_filter(list_transform(string_split({raw}, {lit(field.separator)}), x -> trim(x)), x -> x <> '')))"
        return Column(tags, raw=raw)
    if spec.type == "flag":
        yes, no = (", ".join(lit(v.lower()) for v in words) for words in (field.true, field.false))
        value = f"CASE WHEN lower({raw}) IN ({yes}) THEN true WHEN lower({raw}) IN ({no}) THEN false END"
        reason = f"is neither yes ({', '.join(field.true)}) nor no ({', '.join(field.false)})"
        return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", reason, raw)
    number = _plain_number(raw, field.decimal, field.thousands)
    digits = r"^[+-]?\d{1,18}(\.0*)?$" if not spec.scale else rf"^[+-]?\d{{1,15}}(\.\d{{0,{spec.scale}}}0*)?$"
    value = (
        f"CASE WHEN regexp_matches({number}, {lit(digits)}) "
        f"THEN CAST(try_cast({number} AS DECIMAL(38, 9)) * {10**spec.scale} AS BIGINT) END"
    )
    wanted = f"with at most {spec.scale} decimals" if spec.scale else "without decimals"
    return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", f"is not a number {wanted}", raw)


def _plain_number(raw: str, point: str, thousands: str) -> str:
    text = f"replace({raw}, {lit(thousands)}, '')" if thousands else raw
    return f"replace({text}, ',', '.')" if point == "," else text


def _coalesce(values: list[str], kind: str) -> str:
    if not values:
        return f"CAST(NULL AS {kind})"
    return values[0] if len(values) == 1 else f"coalesce({', '.join(values)})"
