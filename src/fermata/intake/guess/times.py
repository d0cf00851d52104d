"""Which columns are times and lengths, and how they are written."""

from __future__ import annotations

import itertools
import re
import unicodedata
from dataclasses import dataclass, field
from datetime import datetime
from functools import cache
from typing import Any

from fermata.intake.guess.comings import comings
from fermata.intake.guess.headings import happened, hints, named, says
from fermata.intake.guess.values import ISO_LENGTH
from fermata.intake.guess.words import UNITS
from fermata.intake.texts import HALVES, IN_WORDS, MONTH_THERE, MONTHS, WEEKDAY

__all__ = ["Times", "form_of", "times"]

CLOCKS = ("%H:%M:%S", "%H:%M", "%I:%M:%S %p", "%I:%M %p", "%H:%M:%S.%f", "%I:%M:%S%p", "%I:%M%p")
DAYS = (
    "%d/%m/%Y",
    "%m/%d/%Y",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%d.%m.%Y",
    "%d.%m.%y",
    "%d/%m/%y",
    "%m/%d/%y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%Y%m%d",
    "%d %b %Y",
    "%d. %b %Y",
    "%d de %b de %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d %Y",
    "%b %d, %Y",
    "%d %B %Y",
    "%d. %B %Y",
    "%B %d, %Y",
    "%A, %B %d, %Y",
    "%A, %d %B %Y",
)
WHOLE = (
    "%d/%b/%Y:%H:%M:%S %z", "%a %b %d %H:%M:%S %Y", "%Y%m%d%H%M%S", "%Y%m%d %H%M%S", "%a, %d %b %Y %H:%M:%S %z",
    *(f"{day} {clock}" for day in DAYS for clock in CLOCKS), *(f"{day}, {clock}" for day in DAYS for clock in CLOCKS),
)  # fmt: skip
PACKED = {  # without which a number of a telephone would be a time
    "%Y%m%d%H%M%S": r"\d{14}", "%Y%m%d %H%M%S": r"\d{8} \d{6}", "%Y%m%d": r"\d{8}", "%H%M%S": r"\d{6}",
}  # fmt: skip
SWAPPED = {"%d/%m": "%m/%d", "%d-%m": "%m-%d"}
ISO = re.compile(r"\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d([.,]\d+)?)?)?\s*(Z|[+-]\d\d(:?\d\d)?)?$")
OF_PEOPLE = ("time entries", "door access", "")  # kinds of log, or none known, in which people come and go
CLOCK = re.compile(r"\d{1,2}:\d\d(:\d\d(\.\d+)?)?( ?[AaPp][Mm])?$")
LENGTH = re.compile(r"\d+:\d\d:\d\d$")
SHORT = re.compile(r"\d+:[0-5]\d$")
WORDED = re.compile(rf"(?=.*[0-9]){IN_WORDS.removeprefix('(?i)')}", re.IGNORECASE)
NUMBER = re.compile(r"-?\d+$")
PLAIN = re.compile(r"\d+(?:[.,]\d+)?$")
MIDNIGHT = re.compile(r"[ T](?:0?0:00(?::00(?:\.0+)?)?|12:00(?::00)? AM)$")
COUNTED_FROM = re.compile(
    r"(?:1899-12-30|12/30/1899|30[/.]12[/.]1899|1900-01-01|0?1[/.]0?1[/.]1900|1970-01-01)[ T](?=\d?\d:\d\d)"
)
NO_PARTS = re.compile(r":\d\d(\.0+)$")
ENOUGH = 0.97  # of the texts must read as a form
PLAUSIBLE = range(1970, 2100)
EXAMPLE = datetime(2026, 11, 27, 13, 5, 9, 123456)
NAMED_ZONE = re.compile(r"(.*\d(?: ?[AaPp][Mm])?) ?(?:UTC|GMT)")
ISO_FORMS = ("%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S.%f", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S.%f")

ENGLISH = {"sept", *(w for m in MONTHS for w in (m.casefold(), m[:3].casefold()))}
NAMED = {w: m for m, words in MONTHS.items() for w in (m.casefold(), m[:3].casefold(), *words.split())}
SERIAL = re.compile(r"\d{5}(?:[.,]\d{1,12})?")  # days; the numbers below are of the years 1982 to 2119

Doubts = dict[str, str]
Fields = dict[str, dict[str, Any]]


@dataclass
class Times:
    """Start, finish and duration in TOML terms, all columns that hold times, and the starts of a record's events where
    its clock times are comings and goings.
    """

    fields: Fields
    columns: set[str]
    starts: list[dict[str, Any]] = field(default_factory=list)


def times(columns: dict[str, list[str]], doubts: Doubts, kind: str) -> Times:
    """What the columns that hold times and lengths mean in a log of this kind. What a call lasted is how long it was
    talked, where the file says it.
    """
    around = {n: _around(texts) for n, texts in columns.items()}
    columns = {n: _as_read([t[len(around[n][0]) : len(t) - len(around[n][1])] for t in columns[n]]) for n in columns}
    forms = {n: f for n, texts in columns.items() if texts and (f := form_of(n, texts, doubts)) is not None}
    if any(t and all(map(CLOCK.match, t)) for t in columns.values()):
        forms |= _dates(columns, doubts)
    days = {
        n
        for n, f in forms.items()
        if (f and (f[0] in DAYS or MIDNIGHT.search(f[0]))) or (not f and all(len(t) == 10 for t in columns[n]))
    }
    spoken = happened(n for n in forms if n not in days)
    fields: Fields = {}
    start = _when("start", spoken)
    apart: Fields = {}
    starts: list[dict[str, Any]] = []
    if days and start is None:
        dated = happened(n for n in forms if n in days)
        day = _when("start", dated) or dated[0]
        apart, starts = _day_and_clock(columns, forms, around, day, doubts, kind in OF_PEOPLE)
        if "columns" not in apart["start"]:  # a moment in one column goes before a date without a clock
            start = next(iter(spoken), None)
    elif start is None:
        start = next(iter(spoken), None)
    if start is not None:
        for name in ("start", "finish") if apart else ():
            doubts.pop(name, None)
        fields["start"] = _field(start, forms[start])
        if finish := _when("finish", [n for n in spoken if n != start]):
            fields["finish"] = _field(finish, forms[finish])
    elif apart:
        fields |= apart
    else:
        headed = [n for n in columns if form_of(n, [n], {}) is not None]
        doubts["start"] = (
            f"days stand in the headings ({headed[0]}, {headed[1]} ...), a column each, which cannot be read: save it "
            "with a row for each day"
            if len(headed) > 1
            else "no column reads as a time; name it and its form"
        )
    for column in [c for c in doubts if c in forms]:
        doubts["start"] = doubts.pop(column)
    if starts or ("finish" in fields and kind != "calls"):
        return Times(fields, set(forms), starts)
    used = {c for f in fields.values() for c in f.get("columns", ())}
    length = _duration({n: t for n, t in columns.items() if t and n not in forms and n not in used}, doubts)
    if length:
        fields.pop("finish", None)
        doubts.pop("finish", None)
        fields["duration"] = length
    return Times(fields, set(forms))


def _around(texts: list[str]) -> tuple[str, str]:
    """What stands before and behind each of the clock times of a column: the day that databases and workbooks count
    from, and parts of a second that are none.
    """
    before = {m[0] if (m := COUNTED_FROM.match(t)) else "" for t in texts}
    first = before.pop() if len(before) == 1 else ""
    behind = {m[1] if (m := NO_PARTS.search(t)) else "" for t in texts}
    last = behind.pop() if len(behind) == 1 and all(CLOCK.match(t[len(first) :]) for t in texts) else ""
    return first, last


def _dates(columns: dict[str, list[str]], doubts: Doubts) -> dict[str, list[str]]:
    """The columns of dates that are written as midnights, as cells of a workbook are, with their forms."""
    found: dict[str, list[str]] = {}
    for n, texts in columns.items():
        ends = {m[0] if (m := MIDNIGHT.search(t)) else "" for t in texts}
        end = ends.pop() if len(ends) == 1 else ""
        if end and (form := form_of(n, [t.removesuffix(end) for t in texts], doubts)) is not None:
            day = form[0] if form else "%Y-%m-%d"
            found |= {n: [f"{day}{end}"]} if day in (*DAYS, "%Y-%m-%d") else {}
    return found


def _as_read(texts: list[str]) -> list[str]:
    """Texts with `Sept` and `a.m.` as forms of time have them; where months have names of another language, with their
    short English ones, and without the day of the week.
    """
    found = [_month(t) for t in texts]
    if any(month and name.rstrip(".").casefold() not in ENGLISH for name, month in found):
        texts = [
            re.sub(WEEKDAY, r"\1", t.replace(n, m[:3]) if m else t) for t, (n, m) in zip(texts, found, strict=True)
        ]
    return [re.sub(HALVES, r"\1m", re.sub(r"(?i)\bsept\b", "Sep", t)) for t in texts]


def _month(text: str) -> tuple[str, str]:
    """The word behind the day of the month, and the month it names in whatever language."""
    if (found := re.search(MONTH_THERE, text)) is None:
        return "", ""
    return found[1], NAMED.get(unicodedata.normalize("NFC", found[1].rstrip(".")).casefold(), "")


def form_of(name: str, texts: list[str], doubts: Doubts) -> list[str] | None:
    """The form of a column of times; None where it is none. A choice between day and month first is noted."""
    foot = next((i for i, t in enumerate(reversed(texts[-2:])) if re.search(r"\d", t)), 0)  # such as "Total"
    texts = texts[: len(texts) - foot]
    sample = texts[:: max(len(texts) // 400, 1)]
    if all(ISO.match(t) for t in sample):
        return []
    bare = [m[1] for t in sample if (m := NAMED_ZONE.fullmatch(t))]
    if len(bare) == len(sample):
        form = next((f for f in (*ISO_FORMS, *WHOLE) if _share(bare, f) == 1), None)
        return None if form is None else [form + sample[0][len(bare[0]) : -3] + "%Z"]
    if all(NUMBER.fullmatch(t) for t in sample):
        values = [int(t) for t in sample]
        for form, scale in (("epoch s", 1), ("epoch ms", 1000), ("epoch us", 1_000_000)):
            if all(946_684_800 * scale < v < 4_102_444_800 * scale for v in values):
                return [form]
    if all(re.fullmatch(r"24\d{5}\.\d+", t) for t in sample):
        return ["julian day"]
    if all(re.fullmatch(r"\d{10}\.\d+", t) for t in sample):
        return ["epoch s"]
    days = all(SERIAL.fullmatch(t) and 30_000 < int(t[:5]) < 80_000 for t in sample) and any(len(t) > 5 for t in sample)
    if days and any(says(name, h) for field in ("start", "finish") for h in hints(field)):
        return ["spreadsheet day"]
    fitting = [f for f in (*WHOLE, *DAYS) if _share(sample, f) >= ENOUGH]
    if not fitting:
        return None
    first = fitting[0]
    other = next((f for f in fitting[1:] if _swapped(first) == f), None)
    return [_settled(name, texts, first, other, doubts) if other else first]


def _share(texts: list[str], form: str) -> float:
    """How many of the texts read as a form; 0 where neither the first nor the last two do."""
    ends = (texts[0], *texts[-2:])
    if "%z" not in form and _outline(EXAMPLE.strftime(form)) not in map(_outline, ends):
        return 0
    if not any(_read(t, form) for t in ends):
        return 0
    return sum(_read(t, form) is not None for t in texts) / len(texts)


@cache
def _outline(text: str) -> str:
    """A text with 0 for its numbers and a for its words: what cannot be of a form is told without trying to read it."""
    return re.sub(r"[^\W\d_]+", "a", re.sub(r"\d+", "0", re.sub(" +", " ", text)))


def _read(text: str, form: str) -> datetime | None:
    if form in PACKED and not re.fullmatch(PACKED[form], text):
        return None
    try:
        read = datetime.strptime(text, form)
    except ValueError:
        return None
    return read if form in (*CLOCKS, "%H%M%S") or read.year in PLAUSIBLE else None


def _swapped(form: str) -> str:
    for a, b in SWAPPED.items():
        if form.startswith(a):
            return form.replace(a, b)
    return ""


def _settled(name: str, texts: list[str], day_first: str, month_first: str, doubts: Doubts) -> str:
    """Day or month first: the reading under which the file runs forward in time, else a marked choice."""
    steps = {}
    for form in (day_first, month_first):
        read = [t for text in texts if (t := _read(text, form))]
        steps[form] = sum(b < a for a, b in itertools.pairwise(read))
    best, worst = sorted(steps, key=lambda f: steps[f])
    if steps[worst] > steps[best] + len(texts) // 100:
        doubts[name] = (
            f"day or month first? no day above 12 in the sample, but only as {best} does the file run forward"
        )
        return best
    doubts[name] = (
        f"day or month first? {texts[0]} reads both ways and nothing in the sample tells; the other is {month_first}"
    )
    return day_first


def _when(field: str, columns: list[str]) -> str | None:
    """The column of times that speaks for a field; one that speaks for the other end of a span does not."""
    other = {"start": "finish", "finish": "start"}[field]
    sure = [c for c in columns if any(says(c, h) for h in hints(other)[:4])]
    return named(field, [c for c in columns if c not in sure] if field == "start" else columns)


def _day_and_clock(
    columns: dict[str, list[str]],
    forms: dict[str, list[str]],
    around: dict[str, tuple[str, str]],
    day: str,
    doubts: Doubts,
    of_people: bool,
) -> tuple[Fields, list[dict[str, Any]]]:
    """A date and clock times in columns of their own: a second clock time is the finish, more of them are the starts of
    several events where people come and go.
    """
    timed = [n for n, t in columns.items() if t and n not in forms]
    clocks = [n for n in timed if all(CLOCK.match(x) for x in columns[n])]
    if packed := [n for n in timed if _share(columns[n], "%H%M%S") >= ENOUGH and named("start", [n])]:
        clocks = packed
    clocks = [n for n in happened(clocks) if not named("duration", [n]) or named("start", [n]) or named("finish", [n])]
    begin = _when("start", clocks) or next(iter(clocks), None)
    if begin is None:
        doubts["start"] = "a date without a clock time: the event is put at its midnight"
        return {"start": _field(day, forms[day])}, []
    date_form = forms[day][0] if forms[day] else "%Y-%m-%d"
    clock = {n: next((c for c in (*CLOCKS, "%H%M%S") if _share(columns[n], c) >= ENOUGH), "%H:%M") for n in clocks}
    clock = {n: f"{around[n][0]}{form}{around[n][1]}" for n, form in clock.items()}
    if of_people and (shift := comings(columns, clocks)):
        starts = [
            {"columns": [day, c], "part": _with_clock(date_form), "form": f"{date_form} {clock[c]}"} for c in shift
        ]
        return {"start": starts[0]}, [starts[0], *({**s, "next_day": True} for s in starts[1:])]
    fields: Fields = {"start": _joined(day, begin, columns, date_form, clock[begin])}
    if finish := _when("finish", [n for n in clocks if n != begin]):
        days = [n for n, f in forms.items() if n != day and f == forms[day]]
        if last := named("finish", days):
            fields["finish"] = _joined(last, finish, columns, date_form, clock[finish])
        else:
            fields["finish"] = {"column": finish, "form": clock[finish], "next_day": True}
            doubts["finish"] = "a finish before its start is taken to be on the next day"
    used = {begin, finish}
    if finish and (left := [n for n in clocks if n not in used]):
        doubts["start"] = (
            f"further clock times are not used: {', '.join(left)}; a record may be several events (events)"
        )
    return fields, []


def _joined(day: str, clock: str, columns: dict[str, list[str]], date_form: str, clock_form: str) -> dict[str, Any]:
    """A date and a clock time as one; where the clock has gaps, the date alone is no time."""
    gaps = len(columns[clock]) < len(columns[day]) and ":" in clock_form
    part = {"part": _with_clock(date_form)} if gaps else {}
    return {"columns": [day, clock], **part, "form": f"{date_form} {clock_form}"}


def _with_clock(date_form: str) -> str:
    """What a date and a clock time as one must have: a date alone, where somebody did not come, is no time."""
    end = MIDNIGHT.search(date_form)
    return rf"(.*{end[0].replace('.', '[.]')} .*)" if end else r"(.*\d:\d.*)"


def _duration(columns: dict[str, list[str]], doubts: Doubts) -> dict[str, Any]:
    """The column of lengths of time; its unit is that of the heading, where this has one."""
    lengths = [
        n
        for n, t in columns.items()
        if all(any(shape.fullmatch(x) for shape in (PLAIN, LENGTH, SHORT, WORDED, ISO_LENGTH)) for x in t)
    ]
    column = named("duration", lengths)
    if column is None:
        return {}
    texts = columns[column]
    shapes = [bool(s) for s in (_any(LENGTH, texts), _any(SHORT, texts), _any(PLAIN, texts))]
    unit = next((u for u, words in UNITS.items() if any(says(column, w) for w in words)), "")
    forms = ["h:mm:ss"] if shapes[0] else []
    if shapes[1]:
        forms.append("h:mm" if shapes[0] or unit == "hours" else "mm:ss")
        if forms == ["mm:ss"] and max(int(x.split(":")[0]) for x in texts if SHORT.fullmatch(x)) < 24:
            doubts["duration"] = "minutes and seconds, or hours and minutes (h:mm)? nothing in the sample is above 23"
    if _any(WORDED, texts):
        forms.append("words")
    if _any(ISO_LENGTH, texts):
        forms.append("iso")
    if shapes[2]:
        forms.insert(0, unit or "seconds")
        if not unit:
            doubts["duration"] = "a plain number: seconds, minutes, milliseconds?"
    comma = any("," in t for t in texts)
    return {"column": column, "form": forms if len(forms) > 1 else forms[0], **({"decimal": ","} if comma else {})}


def _any(shape: re.Pattern[str], texts: list[str]) -> bool:
    return any(shape.fullmatch(t) for t in texts)


def _field(column: str, form: list[str]) -> dict[str, Any]:
    return {"column": column, **({"form": form[0]} if form else {})}
