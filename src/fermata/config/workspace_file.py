"""`fermata.toml`: the workspace and its logs.

[workspace]
name = "Quillmere Hall"
zone = "Europe/Lisbon"
week_start = "monday"
fiscal_year = { starts = "04-01", named_by = "start" }
[workspace.cycles]
pay = { every = 14, from = "2026-01-05" }             # days
trade = { weeks = [4, 4, 5], from = ["2025-12-29", "2027-01-04"] }
"""

from __future__ import annotations

import re
from datetime import date, datetime
from pathlib import Path
from typing import Annotated, Any, Literal, Self

from pydantic import Field, GetJsonSchemaHandler, field_validator, model_validator
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema

from fermata import tomlfile
from fermata.config.calendars import FactorMap, HolidayMap, HoursMap, PatternMap, TermMaps
from fermata.config.computed_fields import ComputedMap
from fermata.config.derived_logs import DerivedMap
from fermata.config.mail import MailMap
from fermata.config.targets import TargetMap
from fermata.config.viewers import PrivacyMap, ViewerMap
from fermata.engines.chosen import EngineMap
from fermata.errors import ConfigError, UnknownName
from fermata.intake.mapping import LogMap
from fermata.registers.model import RegisterMap
from fermata.reports.definition.display import Display
from fermata.strict import Strict
from fermata.timeline import Calendar, Cycle
from fermata.timeline.cycles import UNITS, WEEKDAYS
from fermata.timeline.words import stamp
from fermata.timeline.zones import instant, zone

__all__ = ["CONFIG", "Config", "load", "understood"]

CONFIG = "fermata.toml"

LONGEST = 36525  # days of a cycle: a hundred years
LOG_NAME = re.compile(r"[a-z][a-z0-9_-]*")


class FiscalYear(Strict):
    """When the fiscal year starts (MM-DD, day 1 to 28) and which of its two years it is called by."""

    starts: str = Field(pattern=r"^(0[1-9]|1[0-2])-(0[1-9]|1\d|2[0-8])$")
    named_by: Literal["start", "end"] = "start"


class CycleTable(Strict):
    """A cycle of the organisation: `every` so many days, or a pattern of `weeks`, from one date or several."""

    every: int | None = Field(default=None, ge=1, le=LONGEST)
    weeks: tuple[Annotated[int, Field(ge=1, le=LONGEST // 7)], ...] | None = Field(
        default=None, min_length=1, max_length=1000
    )
    starts: tuple[date, ...] = Field(alias="from")

    @field_validator("starts", mode="before", json_schema_input_type=date | tuple[date, ...])
    @classmethod
    def _one_or_more(cls, value: Any) -> Any:
        return value if isinstance(value, list) else [value]

    @model_validator(mode="after")
    def _one_pattern(self) -> Self:
        if (self.every is None) is (self.weeks is None):
            raise ValueError("give either every (days) or weeks (a list such as [4, 4, 5])")
        return self


class WorkspaceTable(Strict):
    """Name, zone and calendar of the workspace."""

    name: str = ""
    zone: str
    week_start: Literal["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"] = "monday"
    fiscal_year: FiscalYear = FiscalYear(starts="01-01")
    cycles: dict[str, CycleTable] = Field(default_factory=dict)
    workdays: str = ""
    clock: datetime | None = None
    engine: EngineMap = EngineMap()

    @field_validator("zone")
    @classmethod
    def _zone(cls, name: str) -> str:
        zone(name)
        return name

    @property
    def stands(self) -> datetime | None:
        """The instant (aware UTC) at which the workspace's own clock stands, as a sample's does; None where it goes."""
        return instant(self.clock, zone(self.zone), "clock") if self.clock else None

    def standing(self, now: datetime) -> str:
        """That the workspace's own clock stands still, in words; "" where it goes, or another time is asked for."""
        if self.stands is None or self.stands != now:
            return ""
        return f"clock set to {stamp(self.stands, zone(self.zone))[:16]} in fermata.toml"

    @field_validator("cycles")
    @classmethod
    def _cycle_names(cls, cycles: dict[str, CycleTable]) -> dict[str, CycleTable]:
        for name in cycles:
            if name in UNITS or not re.fullmatch(r"[a-z][a-z ]*", name):
                raise ValueError(f"{name!r} cannot name a cycle: small letters, and none of {', '.join(UNITS)}")
        return cycles

    @property
    def calendar(self) -> Calendar:
        """The zone with the organisation's cycles."""
        month, day = (int(p) for p in self.fiscal_year.starts.split("-"))
        cycles = tuple(
            Cycle(name, (c.every,) if c.every else tuple(7 * w for w in c.weeks or ()), c.starts)
            for name, c in self.cycles.items()
        )
        return Calendar(
            self.zone,
            WEEKDAYS.index(self.week_start),
            (month, day),
            self.fiscal_year.named_by == "end",
            cycles,
        )


class Config(Strict):
    """The whole file. `[display]` says how outputs show figures unless a report says otherwise. `[logs.NAME]` tables
    with `from` or `generate` are `derived`, all others are read from files or queries.
    """

    workspace: WorkspaceTable
    display: Display = Display()
    logs: dict[str, LogMap] = Field(default_factory=dict)
    derived: dict[str, DerivedMap] = Field(default_factory=dict)
    registers: dict[str, RegisterMap] = Field(default_factory=dict)
    targets: dict[str, TargetMap] = Field(default_factory=dict)
    computed: dict[str, ComputedMap] = Field(default_factory=dict)
    holidays: dict[str, HolidayMap] = Field(default_factory=dict)
    hours: dict[str, HoursMap] = Field(default_factory=dict)
    patterns: dict[str, PatternMap] = Field(default_factory=dict)
    factors: dict[str, FactorMap] = Field(default_factory=dict)
    viewers: dict[str, ViewerMap] = Field(default_factory=dict)
    privacy: PrivacyMap = PrivacyMap()
    mail: MailMap | None = None

    @classmethod
    def __get_pydantic_json_schema__(cls, core: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        """As the file has it: derived logs stand among the logs."""
        reference = super().__get_pydantic_json_schema__(core, handler)
        keys = handler.resolve_ref_schema(reference)["properties"]
        of_files, derived = keys["logs"]["additionalProperties"], keys.pop("derived")["additionalProperties"]
        from_other = {"anyOf": [{"required": ["from"]}, {"required": ["generate"]}]}
        keys["logs"]["additionalProperties"] = {"if": from_other, "then": derived, "else": of_files}
        return reference

    @property
    def terms(self) -> TermMaps:
        """Holidays, hours, working patterns and factors."""
        return TermMaps(holidays=self.holidays, hours=self.hours, patterns=self.patterns, factors=self.factors)

    @field_validator("logs", "derived", "targets")
    @classmethod
    def _log_names(cls, logs: dict[str, Any]) -> dict[str, Any]:
        for name in logs:
            if not LOG_NAME.fullmatch(name) or name == "staging":
                raise ValueError(f"{name!r} cannot name a log: small letters, digits, - and _")
        return logs

    @model_validator(mode="after")
    def _closed_days(self) -> Self:
        """The closed days of a log are a set of holidays that there is: a slip would explain no silence."""
        for name, log in self.logs.items():
            if log.closed and log.closed not in self.holidays:
                where = f"(logs.{name}.closed)"
                raise ValueError(str(UnknownName.of("set of holidays", log.closed, self.holidays, where=where)))
        return self


def load(path: Path) -> Config:
    """The configuration in `path`. Raises ConfigError with every problem, each with its line."""
    return understood(*tomlfile.load(path), path)


def understood(data: dict[str, Any], text: str, path: Path) -> Config:
    """The configuration that the tables of a text stand for; `path` is where they are, or would be. Raises
    ConfigError.
    """
    if "derived" in data:
        raise ConfigError(str(path), ["derived: write [logs.NAME] with from or generate"])
    logs = data.get("logs")
    if isinstance(logs, dict):
        made = {n: t for n, t in logs.items() if isinstance(t, dict) and ({"from", "generate"} & t.keys())}
        data = {**data, "logs": {n: t for n, t in logs.items() if n not in made}, "derived": made}
        text = _headed(text, made)
    try:
        return tomlfile.parse(Config, data, path, text)
    except ConfigError as e:  # in the words of the file, where derived logs are logs
        raise ConfigError(e.path, [re.sub(r"(^|, )derived\.", r"\1logs.", p) for p in e.problems]) from None


def _headed(text: str, made: dict[str, Any]) -> str:
    """The text with the headers of derived logs as the model knows them, so that problems find their lines."""
    for name in made:
        text = re.sub(rf"(?m)^(\s*\[)logs(\.{re.escape(name)}[.\]])", r"\1derived\2", text)
    return text
