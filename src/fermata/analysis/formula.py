"""Simple arithmetic on named amounts, with units checked: `Time / Pages`, `Worked + Paid absence - Required`.

Names are column headings (or fields, or declared factors) as they are; one that holds an operator stands in double
quotes. Numbers, + - * / and brackets, and two functions: `gone(BUDGET, SPENT)`, the moment at which a budget is used up
if all goes on as in the period so far, and `since(TIME)`, from a time to the end of what the log holds. Values are
exact fractions until the end; a division by zero, or a missing operand, gives nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from decimal import Decimal
from fractions import Fraction
from typing import Any

from fermata.errors import RequestError, UnknownName

__all__ = ["Context", "Formula", "Quantity", "Unit", "unit"]

TOKEN = re.compile(r'\s*(?:(\d+(?:\.\d+)?)|"([^"]+)"|([^\W\d][\w.]*(?: +[^\W\d][\w.]*)*)|([-+*/(),]))')
HOUR = 3_600_000_000  # microseconds
LONGEST = 200  # numbers, names and signs of a formula
FUNCTIONS = {"gone": 2, "since": 1}
Unit = tuple[tuple[str, int], ...]  # base units with their exponents, in order; () for a plain number
TIME: Unit = (("time", 1),)
DURATION: Unit = (("h", 1),)


def unit(text: str) -> Unit:
    """A unit as written: `kg/sheets`, `EUR`, `h*people`; per cent and nothing are plain numbers."""
    found: dict[str, int] = {}
    sign = 1
    for part in re.split(r"([*/])", text):
        if part in "*/" and part:
            sign = 1 if part == "*" else -1
        elif part.strip() not in ("", "1", "%"):
            name = part.strip()
            name = "h" if name == "h:mm:ss" else name
            found[name] = found.get(name, 0) + sign
    return _unit(found)


def _unit(found: Mapping[str, int]) -> Unit:
    return tuple(sorted((n, e) for n, e in found.items() if e))


def _times(a: Unit, b: Unit, sign: int) -> Unit:
    found = dict(a)
    for name, exponent in b:
        found[name] = found.get(name, 0) + sign * exponent
    return _unit(found)


def words(of: Unit) -> str:
    """A unit as people read it: `h/pages`."""
    over = [n if e == 1 else f"{n}^{e}" for n, e in of if e > 0]
    under = [n if e == -1 else f"{n}^{-e}" for n, e in of if e < 0]
    return "*".join(over) + (f"/{'/'.join(under)}" if under else "") or "a plain number"


@dataclass(frozen=True, slots=True)
class Quantity:
    """How an operand is read: its type as columns have it, its unit, its scale."""

    kind: str
    unit: Unit
    scale: int = 0

    def fraction(self, value: Any) -> Any:
        """The exact value in its unit; durations in hours. None and times stay what they are."""
        if value is None or self.kind == "time":
            return value
        if self.kind in ("duration", "mean duration"):
            return Fraction(value, HOUR)
        return Fraction(value) / 10**self.scale if self.kind in ("money", "decimal") else Fraction(value)


@dataclass(frozen=True, slots=True)
class Context:
    """What functions look at, naive UTC: when the period starts and up to when there are records in it, and the log's
    end.
    """

    start: datetime
    upto: datetime
    end: datetime


@dataclass(frozen=True)
class Formula:
    """A formula as written and as read. `names` are its operands in order."""

    text: str
    node: Any
    names: tuple[str, ...]

    @classmethod
    def parse(cls, text: str) -> Formula:
        """Reads a formula. Raises RequestError saying where it stops making sense."""
        reading = _Reading(text)
        node = reading.sum()
        if reading.at < len(reading.tokens):
            raise RequestError(f"formula {text!r}: cannot go on from {reading.tokens[reading.at][1]!r}")
        return cls(text, node, tuple(dict.fromkeys(reading.names)))

    def quantity(self, of: Mapping[str, Quantity], *, percent: bool = False) -> Quantity:
        """Type, unit and scale of the result, which keeps what its operands are; with `percent`, a plain number is
        shown in per cent.

        Raises RequestError where units do not go together.
        """
        found = self._unit_of(self.node, of)
        if percent and found:
            raise RequestError(
                f"formula {self.text!r} is in {words(found)}, and only a plain number can be shown in per cent"
            )
        if percent:
            return Quantity("share", found)
        if found == TIME:
            return Quantity("time", found)
        if found == DURATION:
            return Quantity("duration", found)
        if ("h", 1) in found and all(e < 0 for n, e in found if n != "h"):
            return Quantity("mean duration", found)
        kind, scale = self._kind_of(self.node, of)
        return Quantity(kind, found, scale)

    def _kind_of(self, node: Any, of: Mapping[str, Quantity]) -> tuple[str, int]:
        """The type and scale of what a part of the formula gives: a sum is what its sides are, a product or ratio of
        whole numbers or money what is exact of it, all else a mean.
        """
        if node[0] == "name":
            return of[node[1]].kind, of[node[1]].scale
        if node[0] == "number":
            places = max(-int(Decimal(str(float(node[1]))).as_tuple().exponent), 0) if node[1].denominator != 1 else 0
            return ("decimal", places) if places else ("number", 0)
        (a, m), (b, n) = (self._kind_of(side, of) for side in node[1:3])
        if node[0] in "+-":
            return _summed(a, b), max(m, n) if "money" not in (a, b) or a == b else m if a == "money" else n
        if node[0] == "*" and {a, b} <= {"number", "decimal"}:
            return ("decimal", m + n) if "decimal" in (a, b) else ("number", 0)
        if node[0] == "*" and "money" in (a, b) and {a, b} & {"number", "decimal", "share"}:
            return "money", m if a == "money" else n
        if node[0] == "/" and a == "money" and not self._names_in(node[2]):
            return "money", m
        return "mean", 0

    @property
    def divides(self) -> bool:
        """Whether anything is divided by something other than a number."""
        return self._divides(self.node)

    @property
    def adds(self) -> bool:
        """Whether it only adds and takes away, so that the results of parts add up to that of their total."""
        return self._adds(self.node)

    def _divides(self, node: Any) -> bool:
        if node[0] in ("name", "number", "call"):
            return False
        return (node[0] == "/" and bool(self._names_in(node[2]))) or any(self._divides(side) for side in node[1:3])

    def _names_in(self, node: Any) -> set[str]:
        if node[0] == "name":
            return {node[1]}
        if node[0] == "number":
            return set()
        return set().union(*(self._names_in(n) for n in (node[2] if node[0] == "call" else node[1:3])))

    def value(self, quantity: Quantity, values: Mapping[str, Any], context: Context | None = None) -> Any:
        """The result in the form `quantity` says, half a unit of scale rounded up; None where there is none.

        `values` are what `Quantity.fraction` gives of the operands.
        """
        found = self._value(self.node, values, context)
        if found is None or quantity.kind == "time":
            return found
        if quantity.kind in ("duration", "mean duration"):
            return _half_up(found * HOUR)
        if quantity.kind in ("number", "money", "decimal"):
            return _half_up(found * 10**quantity.scale)
        return float(found)

    def fold(self, name: Callable[[str], Any], number: Callable[[Fraction], Any], apply: Callable[..., Any]) -> Any:
        """The formula carried out elsewhere: `apply` gets an operator and two results."""

        def go(node: Any) -> Any:
            if node[0] == "name":
                return name(node[1])
            if node[0] == "number":
                return number(node[1])
            if node[0] == "call":
                raise RequestError(f"formula {self.text!r}: {node[1]} works on columns of a report only")
            return apply(node[0], go(node[1]), go(node[2]))

        return go(self.node)

    def _adds(self, node: Any) -> bool:
        return node[0] == "name" or (node[0] in "+-" and self._adds(node[1]) and self._adds(node[2]))

    def _unit_of(self, node: Any, of: Mapping[str, Quantity]) -> Unit:
        if node[0] == "name":
            return of[node[1]].unit
        if node[0] == "number":
            return ()
        if node[0] == "call":
            return self._unit_of_call(node, of)
        a, b = self._unit_of(node[1], of), self._unit_of(node[2], of)
        if node[0] in "+-":
            a, b = self._beside_a_number(node, a, b)
            if a == b == TIME and node[0] == "-":
                return DURATION
            if a != b or a == TIME:
                doing = "added to" if node[0] == "+" else "taken from"
                raise RequestError(f"formula {self.text!r}: {words(b)} cannot be {doing} {words(a)}")
            return a
        if TIME in (a, b):
            raise RequestError(f"formula {self.text!r}: a moment cannot be multiplied or divided")
        return _times(a, b, 1 if node[0] == "*" else -1)

    def _beside_a_number(self, node: Any, a: Unit, b: Unit) -> tuple[Unit, Unit]:
        """The units of two sides; a bare number (10 - count) takes the unit of the other, but for times and lengths of
        time.
        """
        if not self._names_in(node[1]) and b not in (TIME, DURATION):
            return b, b
        return (a, a) if not self._names_in(node[2]) and a not in (TIME, DURATION) else (a, b)

    def _unit_of_call(self, node: Any, of: Mapping[str, Quantity]) -> Unit:
        units = [self._unit_of(n, of) for n in node[2]]
        if node[1] == "since":
            if units[0] != TIME:
                raise RequestError(f"formula {self.text!r}: since needs a time, such as last, not {words(units[0])}")
            return DURATION
        if units[0] != units[1]:
            raise RequestError(
                f"formula {self.text!r}: the budget is in {words(units[0])}, what is spent in {words(units[1])}"
            )
        return TIME

    def _value(self, node: Any, values: Mapping[str, Any], context: Context | None) -> Any:
        if node[0] == "name":
            return values[node[1]]
        if node[0] == "number":
            return node[1]
        if node[0] == "call":
            given = [self._value(n, values, context) for n in node[2]]
            assert context
            return None if None in given else _FUNCTIONS[node[1]](context, *given)
        a, b = (self._value(n, values, context) for n in node[1:])
        if a is None or b is None:
            return None
        if isinstance(a, datetime):
            return Fraction((a - b) // timedelta(microseconds=1), HOUR)
        if node[0] == "/":
            return a / b if b else None
        return a + b if node[0] == "+" else a - b if node[0] == "-" else a * b


def _summed(a: str, b: str) -> str:
    """The type of a sum or difference of two types."""
    if a == b:
        return a
    plain = {"number", "decimal"}
    for kind in ("money", "share"):
        if kind in (a, b) and (a in plain or b in plain):
            return kind
    return "decimal" if {a, b} <= plain else "mean"


def _half_up(value: Fraction) -> int:
    return int((2 * value.numerator + value.denominator) // (2 * value.denominator))


def _gone(context: Context, budget: Fraction, spent: Fraction) -> datetime | None:
    if spent <= 0 or context.upto <= context.start:
        return None
    elapsed = Fraction((context.upto - context.start) // timedelta(microseconds=1))
    try:
        return context.start + timedelta(microseconds=_half_up(elapsed * budget / spent))
    except OverflowError:
        return None


def _since(context: Context, at: datetime) -> Fraction:
    return Fraction((context.end - at) // timedelta(microseconds=1), HOUR)


_FUNCTIONS: dict[str, Callable[..., Any]] = {"gone": _gone, "since": _since}


class _Reading:
    """Recursive descent over the tokens of a formula."""

    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.tokens: list[tuple[str, str]] = []
        self.names: list[str] = []
        place = 0
        while text[place:].strip():
            m = TOKEN.match(text, place)
            if not m:
                raise RequestError(
                    f"formula {text!r}: cannot read {text[place:].strip()!r}; put odd names in double quotes"
                )
            number, quoted, name, sign = m.groups()
            kind = "number" if number else "name" if quoted or name else "sign"
            self.tokens.append((kind, number or quoted or name or sign))
            place = m.end()
        if len(self.tokens) > LONGEST:
            raise RequestError(
                f"formula {text[:60]!r} ... has more than {LONGEST} numbers, names and signs; write a part of it as a "
                "column of its own, and take that column in the formula"
            )

    def sum(self) -> Any:
        """Products added up."""
        node = self.product()
        while self.sees("+", "-"):
            node = (self.next(), node, self.product())
        return node

    def product(self) -> Any:
        """Parts multiplied and divided, from left to right."""
        node = self.part()
        while self.sees("*", "/"):
            node = (self.next(), node, self.part())
        return node

    def part(self) -> Any:
        """A number, a name, a function or something in brackets."""
        if self.at >= len(self.tokens):
            raise RequestError(f"formula {self.text!r} ends too early")
        kind, text = self.tokens[self.at]
        self.at += 1
        if kind == "number":
            return ("number", Fraction(text))
        if kind == "name" and text in FUNCTIONS and self.sees("("):
            return self.call(text)
        if kind == "name":
            self.names.append(text)
            return ("name", text)
        if text == "-":
            return ("-", ("number", Fraction(0)), self.part()) if self.number_follows() else self.refuse(text)
        if text != "(":
            return self.refuse(text)
        node = self.sum()
        self.expect(")")
        return node

    def call(self, name: str) -> Any:
        """A function with its arguments."""
        self.expect("(")
        given = [self.sum()]
        while self.sees(","):
            self.next()
            given.append(self.sum())
        self.expect(")")
        if len(given) != FUNCTIONS[name]:
            raise RequestError(f"formula {self.text!r}: {name} takes {FUNCTIONS[name]}, not {len(given)}")
        return ("call", name, tuple(given))

    def sees(self, *signs: str) -> bool:
        """Whether one of the signs comes next."""
        return self.at < len(self.tokens) and self.tokens[self.at][0] == "sign" and self.tokens[self.at][1] in signs

    def number_follows(self) -> bool:
        """Whether a number comes next."""
        return self.at < len(self.tokens) and self.tokens[self.at][0] == "number"

    def next(self) -> str:
        """The next token, taken."""
        self.at += 1
        return self.tokens[self.at - 1][1]

    def expect(self, sign: str) -> None:
        """Takes the sign, which must come next."""
        if not self.sees(sign):
            raise RequestError(f"formula {self.text!r}: a {sign!r} is missing")
        self.at += 1

    def refuse(self, text: str) -> Any:
        """What stands here makes no sense."""
        raise RequestError(f"formula {self.text!r}: {text!r} cannot stand there")


def known(formula: Formula, names: Mapping[str, Any], what: str) -> None:
    """Raises UnknownName for an operand that does not exist."""
    for name in formula.names:
        if name not in names:
            raise UnknownName.of(what, name, names, where=f"in the formula {formula.text!r}")
