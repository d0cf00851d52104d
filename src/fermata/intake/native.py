"""A mapping's expressions in PostgreSQL, over columns of the types a table has.

What a column's type tells already is taken as it is: an instant is an instant, a number a number. Texts are read by the
same forms as those of files, as far as a database can do so without failing at the first text it cannot read; other
forms are refused with what to do. Texts compare by code point (the collation "C") whatever the database's own order.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta

from fermata.archive.duck import lit
from fermata.errors import RequestError
from fermata.fields import Field
from fermata.intake.field_map import FieldMap
from fermata.intake.localtime import minus
from fermata.intake.texts import IN_WORDS, Column, Origin, in_other_words, raw_text, spelt

__all__ = ["EPOCH", "FAMILIES", "Native"]

FAMILIES = {
    "timestamptz": "instant", "timestamp": "wall", "date": "date", "time": "clock", "interval": "length",
    "int2": "number", "int4": "number", "int8": "number", "numeric": "number", "float4": "float", "float8": "float",
    "bool": "flag", "_text": "texts", "_varchar": "texts", "bytea": "bytes", "json": "json", "jsonb": "json",
}  # fmt: skip
NO_TIME = "CAST(NULL AS timestamp)"
EPOCH = {"epoch s": 1_000_000, "epoch ms": 1_000, "epoch us": 1}
MOST_LENGTH = 9 * 10**18  # microseconds
MOST_EPOCH = 253_402_300_799_000_000  # the end of the year 9999, in microseconds
UNIX_EPOCH_JULIAN = "2440587.5"  # the Julian day of 1970-01-01T00:00 UTC
OFFSET = r"(Z|z|[+-]\d\d(?::?\d\d)?)"
ISO = rf"^(\d{{4}})-(\d\d)-(\d\d)(?:[T ](\d\d):(\d\d)(?::(\d\d)(?:[.,](\d+))?)?)?\s*{OFFSET}?$"
CODES = {
    "Y": r"(\d{4})", "y": r"(\d\d)", "m": r"(\d{1,2})", "d": r"(\d{1,2})", "H": r"(\d{1,2})", "I": r"(\d{1,2})",
    "M": r"(\d{1,2})", "S": r"(\d{1,2})", "f": r"(\d{1,6})",
    "p": "([AaPp](?:[Mm]|[.][ \u00a0\u202f]?[Mm][.]))", "z": OFFSET,
    "b": "([Ss][Ee][Pp][Tt]|[A-Za-z]{3})",
}  # fmt: skip
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
UNITS = {"seconds": 10**6, "milliseconds": 10**3, "minutes": 6 * 10**7, "hours": 36 * 10**8}
SHAPES = {
    "h:mm:ss": (r"^(\d+):([0-5]\d):([0-5]\d(?:\.\d{1,6})?)$", (3600, 60, 1)),
    "h:mm": (r"^(\d+):([0-5]\d)$", (3600, 60)),
    "mm:ss": (r"^(\d+):([0-5]\d(?:\.\d{1,6})?)$", (60, 1)),
    "words": (
        IN_WORDS.replace("([0-9]{1,9})(?:[.]([0-9]{1,6}))?", "([0-9]{1,9}(?:[.][0-9]{1,6})?)"),
        (86400, 3600, 60, 1),
    ),
    "iso": (r"^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d{1,6})?)S)?)?$", (86400, 3600, 60, 1)),
}
NUMBER = r"^[+-]?\d+(\.\d*)?$"
ANY_NUMBER = r"^[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,2})?$"  # of times and lengths


def portable(pattern: str) -> str:
    """A regular expression that means the same to the database. Raises RequestError."""
    if re.search(r"\(\?(?!:)|[*+?}]\?", pattern):
        raise RequestError(
            f"the expression {pattern!r} has names, flags or lazy repetitions, which a database reads otherwise; "
            "write it "
            "without them, or import the log"
        )
    return pattern


@dataclass(frozen=True)
class Native:
    """The SQL of PostgreSQL over a table's columns; `families` says what each holds (see `FAMILIES`; others are texts),
    `at` how it is read.
    """

    families: Mapping[str, str] = field(default_factory=dict)
    at: Mapping[str, str] = field(default_factory=dict)

    def text(self, column: str, here: str = "") -> str:
        """A column as text, without spaces around it; `here` where it goes by another name than usual."""
        here = here or self.at[column]
        plain = f"encode({here}, 'hex')" if self.families.get(column) == "bytes" else f"CAST({here} AS text)"
        return f"""nullif(btrim({plain} COLLATE "C"), '')"""

    def trimmed(self, text: str) -> str:
        """The text, which is trimmed already."""
        return text

    def matches(self, text: str, pattern: str) -> str:
        """Whether a regular expression is found in the text."""
        return f"({text} ~ {lit(portable(pattern))})"

    def group(self, text: str, pattern: str) -> str:
        """What the one group of a regular expression found; NULL for nothing."""
        return f"nullif((regexp_match({text}, {lit(portable(pattern))}))[1], '')"

    def lowered(self, text: str) -> str:
        """The text in small letters, of every script."""
        return f'(lower(({text}) COLLATE "und-x-icu") COLLATE "C")'

    def composed(self, text: str) -> str:
        """The text with letters and their accents as one sign (Unicode normal form C)."""
        return f"normalize({text}, NFC)"

    def alike(self, text: str, pattern: str) -> str:
        """Whether the whole text is as a pattern with `*` and `?` says."""
        plain = "".join({"*": "%", "?": "_"}.get(c, f"\\{c}" if c in "%_\\" else c) for c in pattern)
        return f"({text} LIKE {lit(plain)})"

    def interval(self, microseconds: str) -> str:
        """A number of microseconds as a length of time: exact below 285 years."""
        return f"({microseconds} * INTERVAL '1 microsecond')"

    def less(self, time: str, by: timedelta) -> str:
        """A time less a length of time."""
        return minus(time, by)

    def clock(self, field: FieldMap, origin: Origin) -> bool:
        """Whether a time is a clock time alone."""
        dated = any(set("Yymd") & set(re.findall("%(.)", form)) or "%" not in form for form in field.form)
        return self.family(field) == "clock" or (bool(field.form) and not dated)

    def family(self, field: FieldMap) -> str:
        """What the field's value is before any reading of text: the family of its column, or text."""
        plain = not (field.part or field.patterns or field.values or field.spelling)
        if plain and not field.form and [self.families.get(c) for c in field.columns or ()] == ["date", "clock"]:
            return "wall"  # a date and a time, joined
        plain = plain and field.column is not None
        return self.families.get(field.column or "", "text") if plain else "text"

    def instant(self, field: FieldMap, origin: Origin) -> tuple[Column, Column]:
        """A time: a column that is one, a number of an epoch, or a text in one of its forms. Raises RequestError."""
        family, raw, forms = self.family(field), raw_text(field, origin), field.form or ("iso",)
        here = " + ".join(self.at[c] for c in field.read_columns if c in self.at)
        if family in ("instant", "wall", "date", "clock"):
            if forms != ("iso",):
                raise RequestError(f"{field.column} is a time already; leave its form out")
            if family != "clock":  # a time without end is none
                here, raw = (
                    f"(CASE WHEN isfinite({here}) THEN {here} END)",
                    f"(CASE WHEN isfinite({here}) THEN {raw} END)",
                )
            if family == "instant":
                return Column(NO_TIME, raw=raw), Column(f"({here} AT TIME ZONE 'UTC')")
            begin = "TIMESTAMP '1900-01-01' + " if family == "clock" else ""
            return Column(f"{begin}{here}" if begin else f"CAST({here} AS timestamp)", raw=raw), Column(NO_TIME)
        local: list[str] = []
        utc: list[str] = []
        for form in forms:
            if form == "spreadsheet day":
                local.append(_spreadsheet_day(self._number(_point(raw, ",", ""), family, here)))
                continue
            if form in EPOCH or form == "julian day":
                utc.append(_epoch(self._number(raw, family, here), form))
                continue
            for text, written in ((raw, form), *in_other_words(raw, [form], self)):
                here_and_there = _read(text, written)
                local += here_and_there[:1] if here_and_there[0] else []
                utc += here_and_there[1:] if here_and_there[1] else []
        wanted = " or ".join("ISO 8601" if f == "iso" else f for f in forms)
        return (
            Column(_coalesce(local, NO_TIME), reason=f"is not a time written as {wanted}", raw=raw),
            Column(_coalesce(utc, NO_TIME)),
        )

    def _number(self, raw: str, family: str, here: str, shape: str = ANY_NUMBER) -> str:
        """A value as an exact number; NULL where it is none."""
        if family == "number":
            return f"CAST({here} AS numeric)"
        return f"CASE WHEN {raw} ~ {lit(shape)} THEN CAST({raw} AS numeric) END"

    def duration(self, field: FieldMap, origin: Origin) -> Column:
        """A length of time in whole microseconds; negative ones are refused, and lengths in months, which have no
        length.
        """
        family, raw, forms = self.family(field), raw_text(field, origin), field.form or ("seconds",)
        if family == "length":
            here = self.at[field.column or ""]
            value = f"CAST(extract(epoch FROM {here}) * 1000000 AS bigint)"
            value = (
                f"CASE WHEN extract(year FROM {here}) = 0 AND extract(month FROM {here}) = 0 AND {here} >= "
                f"INTERVAL '0' THEN {value} END"
            )
            return Column(
                value, f"{raw} IS NOT NULL AND ({value}) IS NULL", "is below nothing, or counted in months", raw
            )
        here = self.at.get(field.column or "", "")
        cleaned = _point(raw, field.decimal, "")
        values = [
            f"CASE WHEN {number} >= 0 AND {number} < {MOST_LENGTH // UNITS[form]} THEN CAST(round(round({number}, 9) "
            f"* {UNITS[form]}) AS bigint) END"
            if form in UNITS and (number := self._number(cleaned, family, here))
            else _shaped(raw, form)
            for form in forms
        ]
        value = _coalesce(values, "CAST(NULL AS bigint)")
        return Column(
            value, f"{raw} IS NOT NULL AND ({value}) IS NULL", f"is not a duration written as {' or '.join(forms)}", raw
        )

    def typed(self, field: FieldMap, spec: Field, origin: Origin) -> Column:
        """A declared field's value in the type it is reported in. Raises RequestError."""
        family, raw = self.family(field), raw_text(field, origin)
        here = self.at.get(field.column or "", "")
        if spec.type == "text":
            return Column(spelt(field, origin) if field.spelling else raw, raw=raw)
        if spec.type == "duration":
            return self.duration(field, origin)
        if spec.type == "tags":
            if family == "json":
                raise RequestError(f"{field.column} is JSON; give its list as text[] in a view")
            listed = here if family == "texts" else f"string_to_array({raw}, {lit(field.separator)})"
            each = f"""SELECT DISTINCT btrim(v COLLATE "C") AS w FROM unnest({listed}) AS u(v) WHERE btrim(v) <> ''"""
            return Column(
                f"CASE WHEN {raw} IS NOT NULL THEN ARRAY(SELECT w FROM ({each}) AS d ORDER BY w) END", raw=raw
            )
        if spec.type == "flag":
            yes, no = (", ".join(lit(v.lower()) for v in words) for words in (field.true, field.false))
            value = f"CASE WHEN lower({raw}) IN ({yes}) THEN true WHEN lower({raw}) IN ({no}) THEN false END"
            value = here if family == "flag" else value
            reason = f"is neither yes ({', '.join(field.true)}) nor no ({', '.join(field.false)})"
            return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", reason, raw)
        number = self._number(_point(raw, field.decimal, field.thousands), family, here, NUMBER)
        scaled = f"({number}) * {10**spec.scale}"
        most = 15 if spec.scale else 18
        value = f"CASE WHEN abs({number}) < 1e{most} AND {scaled} = trunc({scaled}) THEN CAST({scaled} AS bigint) END"
        wanted = f"with at most {spec.scale} decimals" if spec.scale else "without decimals"
        return Column(value, f"{raw} IS NOT NULL AND ({value}) IS NULL", f"is not a number {wanted}", raw)


def _coalesce(values: list[str], nothing: str) -> str:
    if not values:
        return nothing
    return values[0] if len(values) == 1 else f"coalesce({', '.join(values)})"


def _point(raw: str, point: str, thousands: str) -> str:
    text = f"replace({raw}, {lit(thousands)}, '')" if thousands else raw
    return f"replace({text}, ',', '.')" if point == "," else text


def _epoch(number: str, form: str) -> str:
    """A UTC time from a number of units since 1970, or from a Julian day, which is read to the millisecond."""
    if form == "julian day":
        micros, most = f"round((({number}) - {UNIX_EPOCH_JULIAN}) * 86400000) * 1000", f"abs({number}) < 5000000"
    else:
        micros = f"round(({number}) * {EPOCH[form]})"
        most = f"abs({number}) <= {MOST_EPOCH // EPOCH[form]}"
    return f"CASE WHEN {most} THEN TIMESTAMP '1970-01-01' + {micros} * INTERVAL '1 microsecond' END"


def _spreadsheet_day(number: str) -> str:
    """A wall clock from a number of days since 1899-12-30; to the second where it has fewer decimals than a millisecond
    takes.
    """
    millis = (
        f"CASE WHEN scale({number}) > 7 THEN round(({number}) * 86400000) ELSE round(({number}) * 86400) * 1000 END"
    )
    here = f"TIMESTAMP '1899-12-30' + ({millis}) * INTERVAL '1 millisecond'"
    return f"CASE WHEN ({number}) > 0 AND ({number}) < 2958466 THEN {here} END"


def _shape(form: str) -> tuple[str, list[str]]:
    """A time's form as a regular expression, and what each of its groups is. Raises RequestError."""
    if form == "iso":
        return ISO, ["Y", "m", "d", "H", "M", "S", "f", "z"]
    pieces, codes = [], []
    for literal, code in re.findall(r"([^%]+)|%(.)", form):
        if literal:
            pieces.append(re.escape(literal).replace("\\ ", " "))
        elif code in CODES:
            pieces.append(CODES[code])
            codes.append(code)
        else:
            raise RequestError(
                f"a database cannot read the time form {form!r} where it is (%{code}); make the column a timestamp "
                "in a view, or import the log"
            )
    if "hhmm" in form:
        raise RequestError(f"a database cannot read the time form {form!r} where it is; make it a timestamp in a view")
    return f"^{''.join(pieces)}$", codes


def _read(raw: str, form: str) -> tuple[str, str]:
    """The wall-clock and the UTC time of a text by a form, each NULL where the text does not fit or is no time there
    is; "" where a form never tells.
    """
    pattern, codes = _shape(form)
    part = {code: f"m[{i}]" for i, code in enumerate(codes, 1)}
    number = {c: f"CAST({p} AS integer)" for c, p in part.items() if c not in "fpbz"}
    year = number.get("Y") or "1900"
    if "y" in part:
        year = f"(CASE WHEN {number['y']} < 69 THEN 2000 ELSE 1900 END + {number['y']})"
    month = number.get("m", "1")
    if "b" in part:
        cases = " ".join(f"WHEN {lit(m)} THEN {i}" for i, m in enumerate(MONTHS, 1))
        month = f"(CASE left(lower({part['b']}), 3) {cases} END)"
    day, hour = number.get("d", "1"), f"coalesce({number['H']}, 0)" if "H" in part else "0"
    if "I" in part:
        later = f"CASE WHEN lower({part['p']}) LIKE 'p%' THEN 12 ELSE 0 END" if "p" in part else "0"
        hour = f"(CASE WHEN {number['I']} BETWEEN 1 AND 12 THEN {number['I']} % 12 + {later} ELSE 99 END)"
    minute, second = (f"coalesce({number[c]}, 0)" if c in part else "0" for c in "MS")
    micro = f"coalesce(CAST(rpad(left({part['f']}, 6), 6, '0') AS integer), 0)" if "f" in part else "0"
    last = (
        f" OR ({hour} = 24 AND {minute} = 0 AND {second} = 0 AND {micro} = 0)" if "H" in part else ""
    )  # ISO 8601's end of a day
    there_is = f"{month} BETWEEN 1 AND 12 AND ({hour} < 24{last}) AND {minute} < 60 AND {second} < 60 AND {year} > 0"
    days = f"extract(day FROM make_date({year}, {month}, 1) + INTERVAL '1 month' - INTERVAL '1 day')"
    made = f"make_timestamp({year}, {month}, {day}, {hour}, {minute}, {second}) + {micro} * INTERVAL '1 microsecond'"
    wall = f"CASE WHEN {there_is} THEN CASE WHEN {day} BETWEEN 1 AND {days} THEN {made} END END"

    def once(
        value: str, test: str = "m IS NOT NULL"
    ) -> str:  # the text is looked at once, however many parts are made of it
        return (
            f"(SELECT CASE WHEN {test} THEN {value} END FROM (SELECT regexp_match({raw}, {lit(pattern)}) AS m "
            "OFFSET 0) AS f)"
        )

    if "z" not in part:
        return once(wall), ""
    told = once(f"{wall} - {_offset(part['z'])}", f"{part['z']} IS NOT NULL")
    return once(wall, f"m IS NOT NULL AND {part['z']} IS NULL") if form == "iso" else "", told


def _offset(text: str) -> str:
    """An offset as written (Z, +01, +0100, +01:00) as a length of time; a pure clock has none."""
    digits = f"replace({text}, ':', '')"
    size = (
        f"CAST(substr({digits}, 2, 2) AS integer) * 60 + coalesce(CAST(nullif(substr({digits}, 4, 2), '') AS "
        "integer), 0)"
    )
    minutes = f"CASE WHEN lower({text}) = 'z' THEN 0 WHEN {text} LIKE '-%' THEN -({size}) ELSE {size} END"
    return f"(({minutes}) * INTERVAL '1 minute')"


def _shaped(raw: str, form: str) -> str:
    """A duration written with colons or as ISO 8601, in microseconds."""
    pattern, units = SHAPES[form]
    found = f"regexp_match({raw}, {lit(pattern)})"
    total = " + ".join(
        f"coalesce(CAST(CAST(({found})[{i}] AS numeric) * {unit * 10**6} AS bigint), 0)"
        for i, unit in enumerate(units, 1)
    )
    return f"CASE WHEN {found} IS NOT NULL AND {raw} ~ '[0-9]' THEN {total} END"
