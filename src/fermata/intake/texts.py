"""What a field's text is before any typing, in the SQL of whichever engine reads it.

A dialect says how an engine matches, trims and replaces texts, and how it types them: `fermata.intake.expressions` for
the engine that reads files, `fermata.intake.native` for a PostgreSQL database in which a log is read where it is.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path
from typing import Protocol

from fermata.archive.duck import lit
from fermata.errors import SourceError
from fermata.fields import Field
from fermata.intake.field_map import FieldMap

__all__ = [
    "HALVES",
    "IN_WORDS",
    "ISO_DURATION",
    "MONTHS",
    "MONTH_THERE",
    "WEEKDAY",
    "Column",
    "Dialect",
    "Origin",
    "from_name",
    "in_other_words",
    "paired",
    "raw_text",
    "spelt",
]

MAC_SHAPE = r"^([0-9A-Fa-f]{2}[:-]?){5}[0-9A-Fa-f]{2}$|^([0-9A-Fa-f]{4}[.]){2}[0-9A-Fa-f]{4}$"
PHONE_SHAPE = r"^[+(]?[0-9][0-9 ()/.-]*$"
ISO_DURATION = r"^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)(?:\.(\d{1,6}))?S)?)?$"
IN_WORDS = (  # 1d 2h 3m 4.5s, 2 hours 5 minutes, 3 Std. 20 Min.: days, hours, minutes, seconds and parts of one
    r"(?i)^(?:([0-9]{1,5}) *(?:days?|d|tage?|t)[.]?)?(?:[ ,]|and|und)*"
    r"(?:([0-9]{1,7}) *(?:hours?|hrs?|h|stunden?|std)[.]?)?(?:[ ,]|and|und)*"
    r"(?:([0-9]{1,9}) *(?:minutes?|minuten|mins?|m)[.]?)?(?:[ ,]|and|und)*"
    r"(?:([0-9]{1,9})(?:[.]([0-9]{1,6}))? *(?:seconds?|secs?|sekunden?|sek|s)[.]?)?$"
)
HALVES = "(?i)\\b([ap])[.][ \u00a0\u202f]?m[.]"  # a.m. and p.m., of which the engines know am and pm
MONTHS = {  # as the engines know them -> the names in Danish, Dutch, French, German, Italian, Norwegian, Polish,
    # Portuguese, Spanish and Swedish, in full and short
    "January": "januar januari janvier janv jänner jän enero ene janeiro gennaio gen styczeń stycznia sty",
    "February": "februar februari février fevrier févr fév fevr feber febrero fevereiro fev febbraio "
    "luty lutego lut",
    "March": "märz maerz mär mrz mars marts marzo março marco maart mrt marzec marca",
    "April": "avril avr abril abr aprile kwiecień kwietnia kwi",
    "May": "mai maj mayo maio mei maggio mag maja",
    "June": "juni juin junio junho giugno giu czerwiec czerwca cze",
    "July": "juli juillet juil julio julho luglio lug lipiec lipca lip",
    "August": "august août aout agosto ago augusti augustus sierpień sierpnia sie",
    "September": "septembre septiembre setiembre setembro settembre sept set wrzesień września wrz",
    "October": "oktober okt octobre octubre outubro ottobre ott out październik października paź",
    "November": "novembre noviembre novembro listopad listopada lis",
    "December": "dezember dez décembre decembre déc diciembre dic dezembro dicembre desember des "
    "grudzień grudnia gru",
}  # fmt: skip
MONTH_THERE = r"[0-9][.]?[ /-]*(?:de )?([^0-9 ,.:/-]+[.]?)"  # behind the day of the month
WEEKDAY = r"^[^0-9 ,.]+[.]?,? ([0-9])"  # in front of it
SHORT_NUMBER = 6  # digits; shorter ones are extensions and service numbers, which have no country


@dataclass(frozen=True)
class Origin:
    """Where a record comes from: its file, the expression of each column's text, whose SQL it is, and what zone
    abbreviations mean.
    """

    file: Path
    columns: dict[str, str]
    dialect: Dialect
    zones: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Column:
    """A field's value and, as a condition, when the text there is refused; `reason` says what was wanted."""

    value: str
    refused: str = "false"
    reason: str = ""
    raw: str = "NULL"


def raw_text(field: FieldMap, origin: Origin) -> str:
    """The text of a field before any typing: NULL where it is empty."""
    text = _given(field, origin)
    if field.pair is not None:
        text = paired(text, field.pair, origin.dialect)
    if field.part is not None:
        text = origin.dialect.group(text, field.part)
    if field.patterns:
        cases = " ".join(f"WHEN {origin.dialect.matches(text, k)} THEN {lit(v)}" for k, v in field.patterns.items())
        text = f"CASE {cases} END"  # what no pattern fits is empty, and not the whole text
    if field.values:
        cases = " ".join(f"WHEN {lit(k)} THEN {lit(v)}" for k, v in field.values.items())
        text = f"CASE {text} {cases} ELSE {text} END"
    return text


def in_other_words(raw: str, forms: Sequence[str], dialect: Dialect) -> list[tuple[str, str]]:
    """The text with the month's name of another language as engines read it, and without a day of the week before it,
    for each form of time with such a name; and that form.
    """
    found = []
    name = dialect.group(raw, MONTH_THERE)
    word = dialect.lowered(dialect.composed(f"rtrim({name}, '.')"))
    for form in forms:
        for code in {"%b", "%B"} & set(re.findall("%.", form)):
            whens = " ".join(
                f"WHEN {word} IN ({', '.join(map(lit, (own.lower(), own[:3].lower(), *others.split())))}) "
                f"THEN {lit(own if code == '%B' else own[:3])}"
                for own, others in MONTHS.items()
            )
            text = f"replace({raw}, {name}, CASE {whens} ELSE {name} END)"
            if not re.search("%[aA]", form):
                text = f"regexp_replace({text}, {lit(WEEKDAY)}, '\\1')"
            found.append((text, form.replace(f"{code}.", code)))
    return found


def spelt(field: FieldMap, origin: Origin) -> str:
    """The text of an identity in the spelling its rules declare."""
    text, dialect = raw_text(field, origin), origin.dialect
    for rule in field.spelling:
        if rule == "lower":
            text = dialect.lowered(text)
        elif rule == "composed":
            text = dialect.composed(text)
        elif rule == "no domain":
            text = (
                f"coalesce(nullif(regexp_replace(regexp_replace({text}, '^[^\\\\]*\\\\', ''), '@.*$', ''), ''), {text})"
            )
        elif rule == "mac":
            plain = f"lower(regexp_replace({text}, '[^0-9A-Fa-f]', '', 'g'))"
            pairs = " || ':' || ".join(f"substr({plain}, {i}, 2)" for i in range(1, 13, 2))
            text = f"CASE WHEN {dialect.matches(text, MAC_SHAPE)} THEN {pairs} ELSE {text} END"
        else:
            text = _phone(dialect, text, rule.removeprefix("phone").strip())
    return text


def _phone(dialect: Dialect, text: str, country: str) -> str:
    """Digits alone, `00` as `+`; with a country code, a national number with its one leading zero left out (ITU-T
    E.164).
    """
    plain = f"regexp_replace(regexp_replace({text}, '[^0-9+]', '', 'g'), '^00', '+')"
    if country:
        national = f"concat({lit(country)}, regexp_replace({plain}, '^0', ''))"
        plain = (
            f"CASE WHEN starts_with({plain}, '+') OR length({plain}) < {SHORT_NUMBER} THEN {plain} ELSE {national} END"
        )
    return f"CASE WHEN {dialect.matches(text, PHONE_SHAPE)} THEN {plain} ELSE {text} END"


def _given(field: FieldMap, origin: Origin) -> str:
    """The text as the source has it."""
    if field.constant is not None:
        return lit(field.constant)
    texts = [origin.dialect.trimmed(origin.columns[c]) for c in field.read_columns]
    if field.empty:  # words that stand for nothing
        nothing = ", ".join(map(lit, field.empty))
        texts = [f"CASE WHEN {t} NOT IN ({nothing}) THEN {t} END" for t in texts]
    if field.file_name is not None:
        named = lit(from_name(field.file_name, origin.file))
        if not texts:
            return named
        missing = " OR ".join(f"{t} IS NULL" for t in texts)
        return f"CASE WHEN NOT ({missing}) THEN concat_ws(' ', {named}, {', '.join(texts)}) END"
    return texts[0] if len(texts) == 1 else f"nullif(concat_ws(' ', {', '.join(texts)}), '')"


def paired(text: str, name: str, dialect: Dialect) -> str:
    """The value of a name in a text of pairs: `name=value`, apart by spaces, commas, semicolons or ampersands, which a
    value in quotes may hold.
    """
    before, quoted = r"(?:^|[\s;,&\[({|])", r'"((?:[^"\\]|\\.)*)"'
    bare = dialect.group(text, rf'{before}{re.escape(name)}\s?[=:]\s?([^\s;,&"|\])}}][^;,&|\])}}\s]*)')
    told = dialect.group(text, rf"{before}{re.escape(name)}\s?[=:]\s?{quoted}")
    return f"coalesce(replace({told}, '\\\"', '\"'), {bare})"


def from_name(pattern: str, file: Path) -> str:
    """What a field takes from the file's path. Raises SourceError if the path does not fit."""
    found = re.search(pattern, file.as_posix())
    if not found:
        raise SourceError(f"{file}: its name does not match {pattern!r}, from which a field is to come")
    return found[1] or ""


class Dialect(Protocol):
    """The SQL of an engine, as far as engines differ. Every text may be NULL, and then so is what is made of it."""

    def trimmed(self, text: str) -> str:
        """The text without spaces around it; NULL if nothing is left."""

    def matches(self, text: str, pattern: str) -> str:
        """Whether a regular expression is found in the text."""

    def group(self, text: str, pattern: str) -> str:
        """What the one group of a regular expression found; NULL for nothing."""

    def lowered(self, text: str) -> str:
        """The text in small letters."""

    def composed(self, text: str) -> str:
        """The text with letters and their accents as one sign (Unicode normal form C)."""

    def alike(self, text: str, pattern: str) -> str:
        """Whether the whole text is as a pattern with `*` and `?` says."""

    def interval(self, microseconds: str) -> str:
        """A number of microseconds as a length of time."""

    def less(self, time: str, by: timedelta) -> str:
        """A time less a length of time; it is not near the first or the last time there is."""

    def clock(self, field: FieldMap, origin: Origin) -> bool:
        """Whether a time is a clock time alone, read as of 1900-01-01."""

    def instant(self, field: FieldMap, origin: Origin) -> tuple[Column, Column]:
        """A time: its wall-clock reading, and its UTC reading where the value itself tells. At most one of the two is
        not NULL.
        """

    def duration(self, field: FieldMap, origin: Origin) -> Column:
        """A length of time in whole microseconds."""

    def typed(self, field: FieldMap, spec: Field, origin: Origin) -> Column:
        """A declared field's value in the type it is reported in."""
