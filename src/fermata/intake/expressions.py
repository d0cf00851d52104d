"""SQL expressions that turn a file's text columns into typed fields, and say why a text is refused.

Every expression gives NULL both for an empty text and for one that cannot be read; `refused` tells the two
apart, so nothing becomes empty silently.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import timedelta

from fermata.archive.duck import lit
from fermata.fields import Field
from fermata.intake.field_map import FieldMap
from fermata.intake.texts import (
    HALVES,
    IN_WORDS,
    ISO_DURATION,
    Column,
    Origin,
    in_other_words,
    raw_text,
    spelt,
)

__all__ = ["FILES", "Files"]

OFFSET = r"(Z|z|[+-]\d\d(:?\d\d)?)$"
ISO_SHAPE = r"^\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?)?\s*(Z|z|[+-]\d\d(:?\d\d)?)?$"
DAYS_END = r"\b24:00(:00([.]0+)?)?([^0-9:.]|$)"  # of ISO 8601, which people write with dates of their own, too
EPOCH = {"epoch s": 1_000_000, "epoch ms": 1_000, "epoch us": 1}
MOST_LENGTH = 9 * 10**18  # microseconds
MOST_EPOCH = 253_402_300_799_000_000  # the end of the year 9999, in microseconds
UNIX_EPOCH_JULIAN = "2440587.5"  # the Julian day of 1970-01-01T00:00 UTC


def instant(field: FieldMap, origin: Origin) -> tuple[Column, Column]:
    """A time: its wall-clock reading, and its UTC reading where the text itself tells (offset or epoch).

    Exactly one of the two is not NULL for a text that can be read.
    """
    raw = raw_text(field, origin)
    forms = field.form or ("iso",)
    local: list[str] = []
    utc: list[str] = []
    patterns = [f for f in forms if "%" in f and not {"%z", "%Z"} & set(re.findall("%.", f)) and "hhmm" not in f]
    if patterns:
        forms_sql = lit(patterns[0]) if len(patterns) == 1 else f"[{', '.join(lit(p) for p in patterns)}]"
        local.append(f"try_strptime({raw}, {forms_sql})")
        if otherwise := _as_engines_write(raw, patterns):
            local.append(f"try_strptime({otherwise}, {forms_sql})")
        local += [f"try_strptime({text}, {lit(form)})" for text, form in in_other_words(raw, patterns, FILES)]
        if any("%H:%M" in p for p in patterns):
            ends, begins = f"regexp_matches({raw}, {lit(DAYS_END)})", f"regexp_replace({raw}, '\\b24:00', '00:00')"
            local.append(f"CASE WHEN {ends} THEN try_strptime({begins}, {forms_sql}) + INTERVAL 1 DAY END")
    for form in forms:
        if form == "iso":
            shaped = f"regexp_matches({raw}, {lit(ISO_SHAPE)})"
            has_offset = f"(regexp_matches({raw}, {lit(OFFSET)}) AND length({raw}) > 10)"
            point = f"replace({raw}, ',', '.')"
            local.append(f"CASE WHEN {shaped} AND NOT {has_offset} THEN try_cast({point} AS TIMESTAMP) END")
            read = [f"epoch_us(try_cast({text} AS TIMESTAMPTZ))" for text in (point, _in_full(point))]
            zoned = f"make_timestamp(coalesce({', '.join(read)}))"
            utc.append(f"CASE WHEN {shaped} AND {has_offset} THEN {zoned} END")
        elif form in EPOCH:
            utc.append(_epoch(raw, EPOCH[form]))
        elif form == "spreadsheet day":
            local.append(_spreadsheet_day(raw))
        elif form == "julian day":
            days = f"try_cast({raw} AS DECIMAL(28, 12))"
            micros = f"({days} - {UNIX_EPOCH_JULIAN}) * 86400000000"
            utc.append(
                f"CASE WHEN abs({days}) < 5000000 THEN make_timestamp(CAST(round({micros} / 1000, 0) AS BIGINT) * "
                "1000) END"
            )
        elif "hhmm" in form:
            local.append(_clock_number(raw, form))
        elif "%Z" in form:
            offset = _with_offset(raw, origin.zones)
            zoned = f"try_strptime({offset}, {lit(form.replace('%Z', '%z'))})"
            utc.append(f"make_timestamp(epoch_us(CAST({zoned} AS TIMESTAMPTZ)))")
        elif "%z" in form:
            utc.append(f"make_timestamp(epoch_us(CAST(try_strptime({raw}, {lit(form)}) AS TIMESTAMPTZ)))")
    wanted = " or ".join("ISO 8601" if f == "iso" else f for f in forms)
    local_sql = _coalesce(local, "TIMESTAMP")
    utc_sql = _coalesce(utc, "TIMESTAMP")
    return Column(local_sql, reason=f"is not a time written as {wanted}", raw=raw), Column(utc_sql)


def _as_engines_write(raw: str, patterns: list[str]) -> str:
    """The text with what people also write (`Sept`, `a.m.`) as the engine reads it; "" where no pattern has such a
    part.
    """
    text = raw
    if any("%b" in p for p in patterns):
        text = f"regexp_replace({text}, '(?i)\\bsept\\b', 'Sep')"
    if any("%p" in p for p in patterns):
        text = f"regexp_replace({text}, {lit(HALVES)}, '\\1m')"
    return text if text != raw else ""


def _spreadsheet_day(raw: str) -> str:
    """A wall clock as spreadsheets count it, in days since 1899-12-30; to the second where it has fewer decimals than a
    millisecond takes.
    """
    number = f"replace({raw}, ',', '.')"
    days, fine = f"try_cast({number} AS DECIMAL(28, 12))", f"length(split_part({number}, '.', 2)) > 7"
    millis = f"CASE WHEN {fine} THEN round({days} * 86400000, 0) ELSE round({days} * 86400, 0) * 1000 END"
    return (
        f"CASE WHEN {days} > 0 AND {days} < 2958466 THEN TIMESTAMP '1899-12-30' + "
        f"to_microseconds(CAST({millis} AS BIGINT) * 1000) END"
    )


def _in_full(text: str) -> str:
    """A time of ISO 8601 with its offset as the engine reads it: with seconds, without a blank before the offset."""
    clock, seconds, offset = (
        f"regexp_extract({text}, {lit(p)}, 1)" for p in (r"[T ](\d\d:\d\d)", r":\d\d(:\d\d(?:\.\d+)?)", OFFSET)
    )
    return (
        f"(substr({text}, 1, 10) || ' ' || coalesce(nullif({clock}, ''), '00:00') || "
        f"coalesce(nullif({seconds}, ''), ':00') || upper({offset}))"
    )


def _epoch(raw: str, scale: int) -> str:
    """Time since 1970 UTC in units of `scale` microseconds; the usual ways of writing it without wide decimals."""
    whole, places = f"TRY_CAST({raw} AS BIGINT)", len(str(scale)) - 1
    most = MOST_EPOCH // scale
    quick = (
        f"WHEN CAST({whole} AS VARCHAR) = {raw} AND {whole} BETWEEN -{most} AND {most} THEN "
        f"make_timestamp({whole} * {scale})"
    )
    fraction = (
        f"WHEN CAST(TRY_CAST({raw} AS DECIMAL(18, {places})) AS VARCHAR) = {raw} "
        f"THEN make_timestamp(TRY_CAST(replace({raw}, '.', '') AS BIGINT))"
    )
    number = f"TRY_CAST({raw} AS DECIMAL(38, 6)) * {scale}"
    other = f"WHEN abs({number}) < {MOST_EPOCH} THEN make_timestamp(CAST({number} AS BIGINT))"
    return f"CASE {quick} {fraction if places else ''} {other} END"


def _with_offset(raw: str, zones: Mapping[str, str]) -> str:
    """The text with the declared abbreviations of zones as offsets; others stay and are refused."""
    for name, offset in zones.items():
        found, instead = rf"(^|[ :0-9]){re.escape(name)}($| )", rf"\1{offset}\2"
        raw = f"regexp_replace({raw}, {lit(found)}, {lit(instead)})"
    return raw


def _clock_number(raw: str, form: str) -> str:
    """A date and a clock time written as a number: 517 is 05:17, 2400 is midnight at the day's end."""
    pattern = form.replace("hhmm", "").strip()
    day, clock = f"regexp_extract({raw}, '^(.*?) ?([0-9]{{1,4}})$', 1)", f"regexp_extract({raw}, '([0-9]{{1,4}})$', 1)"
    number = f"try_cast({clock} AS INTEGER)"
    begin = f"try_strptime({day}, {lit(pattern)})"
    return (
        f"CASE WHEN {number} <= 2400 AND {number} % 100 < 60 "
        f"THEN {begin} + to_minutes({number} // 100 * 60 + {number} % 100) END"
    )


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
        text = _plain_number(raw, point, "")
        whole, number = f"TRY_CAST({text} AS INTEGER)", f"try_cast({text} AS DECIMAL(28, 9))"
        return (  # whole numbers without the cost of wide decimals
            f"CASE WHEN {whole} >= 0 AND CAST({whole} AS VARCHAR) = {text} THEN CAST({whole} AS BIGINT) * {scale} "
            f"WHEN {number} >= 0 AND {number} < {MOST_LENGTH // scale} THEN CAST(round({number} * {scale}, 0) AS "
            "BIGINT) END"
        )
    if form in ("iso", "words"):
        pattern = lit({"iso": ISO_DURATION, "words": IN_WORDS}[form])
        part = [f"coalesce(try_cast(regexp_extract({raw}, {pattern}, {i}) AS BIGINT), 0)" for i in range(1, 5)]
        fraction = f"CAST(rpad(regexp_extract({raw}, {pattern}, 5), 6, '0') AS BIGINT)"
        total = f"((({part[0]} * 24 + {part[1]}) * 60 + {part[2]}) * 60 + {part[3]}) * 1000000 + {fraction}"
        return f"CASE WHEN regexp_matches({raw}, {pattern}) AND regexp_matches({raw}, '[0-9]') THEN {total} END"
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
        return Column(spelt(field, origin) if field.spelling else raw, raw=raw)
    if spec.type == "duration":
        return duration(field, origin)
    if spec.type == "tags":
        listed = f"string_split({raw}, {lit(field.separator)})"
        listed = (
            f"CASE WHEN starts_with({raw}, '[') AND json_valid({raw}) THEN from_json({raw}, '[\"VARCHAR\"]') "
            f"ELSE {listed} END"
        )
        tags = f"list_sort(list_distinct(list_filter(list_transform({listed}, x -> trim(x)), x -> x <> '')))"
        return Column(tags, raw=raw)
    if spec.type == "flag":
        yes, no = (", ".join(lit(v.lower()) for v in words) for words in (field.true, field.false))
        value = f"CASE WHEN lower({raw}) IN ({yes}) THEN true WHEN lower({raw}) IN ({no}) THEN false END"
        reason = f"is neither yes ({', '.join(field.true)}) nor no ({', '.join(field.false)})"
        return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", reason, raw)
    number = _plain_number(raw, field.decimal, field.thousands)
    digits = r"^[+-]?\d{1,18}(\.0*)?$" if not spec.scale else rf"^[+-]?\d{{1,15}}(\.\d{{0,{spec.scale}}}0*)?$"
    quick = f"TRY_CAST({number} AS {f'DECIMAL(18, {spec.scale})' if spec.scale else 'BIGINT'})"
    scaled = f"TRY_CAST(replace({number}, '.', '') AS BIGINT)" if spec.scale else quick
    value = (  # a number written in the one usual way needs no expression, which costs ten times as much
        f"CASE WHEN CAST({quick} AS VARCHAR) = {number} THEN {scaled} WHEN regexp_matches({number}, {lit(digits)}) "
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


class Files:
    """The SQL of the embedded engine, over the text columns of a file."""

    def trimmed(self, text: str) -> str:
        """The text without spaces around it. Trimming every row would cost half as much as parsing the file; that a
        text begins after the space in the order of letters is known at a glance.
        """
        ends = f"ends_with({text}, ' ')"
        bare, spaced = f"{text} >= '!' AND NOT {ends}", f"starts_with({text}, ' ') OR {ends}"
        return f"CASE WHEN {bare} THEN {text} WHEN {spaced} THEN nullif(trim({text}), '') ELSE {text} END"

    def matches(self, text: str, pattern: str) -> str:
        """Whether a regular expression is found in the text."""
        return f"regexp_matches({text}, {lit(pattern)})"

    def group(self, text: str, pattern: str) -> str:
        """What the one group of a regular expression found; NULL for nothing."""
        return f"nullif(regexp_extract({text}, {lit(pattern)}, 1), '')"

    def lowered(self, text: str) -> str:
        """The text in small letters."""
        return f"lower({text})"

    def composed(self, text: str) -> str:
        """The text with letters and their accents as one sign (Unicode normal form C)."""
        return f"nfc_normalize({text})"

    def alike(self, text: str, pattern: str) -> str:
        """Whether the whole text is as a pattern with `*` and `?` says."""
        return f"{text} GLOB {lit(pattern.replace('[', '[[]'))}"

    def interval(self, microseconds: str) -> str:
        """A number of microseconds as a length of time."""
        return f"to_microseconds({microseconds})"

    def less(self, time: str, by: timedelta) -> str:
        """A time less a length of time, in a third of the time that an interval takes."""
        return f"make_timestamp(epoch_us({time}) - {by // timedelta(microseconds=1)})"

    def clock(self, field: FieldMap, origin: Origin) -> bool:
        """Whether a time is written as a clock time alone, which is read as of 1900-01-01."""
        return bool(field.form) and all("%" in f and not set("YyjDFxcsd") & _codes(f) for f in field.form)

    def instant(self, field: FieldMap, origin: Origin) -> tuple[Column, Column]:
        """A time by the forms it may be written in."""
        return instant(field, origin)

    def duration(self, field: FieldMap, origin: Origin) -> Column:
        """A length of time in whole microseconds."""
        return duration(field, origin)

    def typed(self, field: FieldMap, spec: Field, origin: Origin) -> Column:
        """A declared field's value in the type the archive stores."""
        return typed(field, spec, origin)


FILES = Files()


def _codes(form: str) -> set[str]:
    return {form[i + 1] for i in range(len(form) - 1) if form[i] == "%"}
