"""`[targets.NAME]` of `fermata.toml`: how much is wanted of whom, and by when."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, timedelta
from typing import Any, Literal

from pydantic import Field, model_validator

from fermata.analysis.measures import Measure
from fermata.decimals import exact_number
from fermata.errors import ConfigError, FermataError, RequestError
from fermata.fields import Field as LogField
from fermata.fields import LogSchema
from fermata.reports.compile.generated_logs import Targets
from fermata.reports.definition.wording import column_of
from fermata.strict import Strict
from fermata.timeline.lengths import exact

__all__ = ["TargetMap", "with_targets"]

HOUR = 3_600_000_000
Amount = int | float | str


class TargetMap(Strict):
    """How much is wanted: `of` names a measure in the words of a column; `amount` is wanted of everybody the register
    of `by` knows (`who` narrows them by its attributes), `amounts` of some by name; `per` calendar unit, or once for
    each from the day `from` on (a budget). With `working_days` it is spread over these, else over all days.

    [targets.calls-a-day]
    of     = "count of calls where action is answered"
    amount = 20
    per    = "day"
    working_days = true
    """

    of: str
    by: str = "user"
    amount: Amount | None = None
    amounts: dict[str, Amount] = Field(default_factory=dict)
    who: dict[str, str | list[str]] = Field(default_factory=dict)
    per: Literal["day", "week", "month", "quarter", "year", "once"] = "day"
    starts: date | None = Field(default=None, alias="from")
    working_days: bool = False

    @model_validator(mode="after")
    def _sense(self) -> TargetMap:
        if self.amount is None and not self.amounts:
            raise ValueError("give amount (wanted of everybody), or amounts (by name)")
        if self.per == "once" and self.starts is None:
            raise ValueError("per = 'once' needs from: the day the amount is for")
        if not column_of(self.of).get("log"):
            raise ValueError(f"of = {self.of!r} names no log; write 'count of LOG', 'time of LOG where FIELD is VALUE'")
        return self

    @property
    def log(self) -> str:
        """The log whose events are counted towards it."""
        return str(column_of(self.of)["log"])

    def schema_of(self, name: str, schemas: Mapping[str, LogSchema], registers: Any) -> LogSchema:
        """What its log holds: for whom, and how much. Raises UnknownName, RequestError."""
        if self.log not in schemas:
            raise RequestError(f"of = {self.of!r}: there is no log {self.log!r} (logs: {', '.join(schemas)})")
        source = registers.widened(schemas[self.log])
        kind, unit, scale = Measure.parse(str(column_of(self.of)["measure"])).type_in(source)
        if kind not in ("number", "decimal", "money", "duration"):
            raise RequestError(f"of = {self.of!r}: {kind} is no amount that adds up")
        field = source.field(self.by)
        register = registers.of(field)
        if register is None and self.amount is not None:
            raise RequestError(f"amount: no register lists everybody of {self.by}; give amounts by name")
        whose = LogField(self.by, names=f"{register.name} id" if register else "")
        made = Targets(
            whose, LogField("target", kind, unit, scale), register.name if register else "",
            None if self.amount is None else _scaled(self.amount, kind, scale),
            tuple((n, _scaled(a, kind, scale)) for n, a in self.amounts.items()),
            tuple((k, tuple([v] if isinstance(v, str) else v)) for k, v in self.who.items()),
            self.per, self.starts, self.working_days, self.log, schemas[self.log].stored_logs,
        )  # fmt: skip
        return LogSchema(name, made.fields, False, "", schemas[self.log].zone, derivation=made)


def _scaled(amount: Amount, kind: str, scale: int) -> int:
    """An amount in the units the log keeps: microseconds, or the smallest of its scale. Raises RequestError."""
    text = str(amount)
    try:
        if kind == "duration":
            if ":" in text:
                hours, _, minutes = text.partition(":")
                return int(hours) * HOUR + int(minutes) * HOUR // 60
            if text.replace(".", "", 1).isdigit():
                return int(exact_number(text) * HOUR)
            return exact(text) // timedelta(microseconds=1)
        return int((exact_number(text) * 10**scale).to_integral_value())
    except (ValueError, FermataError):
        how = "hours (7.5), 7:30 or '7 hours 30 minutes'" if kind == "duration" else "a number"
        raise RequestError(f"amount {text!r}: write {how}") from None


def with_targets(schemas: Mapping[str, LogSchema], config: Any, registers: Any) -> dict[str, LogSchema]:
    """The logs there are with those of the targets. Raises ConfigError naming the table that is wrong."""
    found, problems = dict(schemas), []
    for name, target in config.targets.items():
        try:
            if name in schemas:
                raise RequestError("there is a log of that name; choose another")
            found[name] = target.schema_of(name, schemas, registers)
        except RequestError as e:
            problems.append(f"targets.{name}: {e}")
    if problems:
        raise ConfigError("fermata.toml", problems)
    return found
