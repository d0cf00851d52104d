"""Several logs as one: the events of all, the fields they share, an amount with its sign, and the log each is from."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from fermata.analysis.derive import Reached, in_order
from fermata.analysis.filters import Selection, column
from fermata.fields import PROVENANCE, Field, LogSchema

__all__ = ["Combine", "Part"]


@dataclass(frozen=True)
class Part:
    """One log of those combined: what its `amount` is (a field, negated where `sign` is -1), which of its events count,
    and the field in which its source recorded the balance after each."""

    amount: str
    sign: int
    only: Selection
    recorded: str = ""


@dataclass(frozen=True)
class Combine:
    """The events of several logs as one, such as all that moves an account: the fields they share, `amount`, `log`, and
    where a source records it, `balance`. `by` is whose account it is.
    """

    inputs: tuple[LogSchema, ...]
    parts: tuple[Part, ...]
    by: tuple[str, ...] = ()
    reach: timedelta = timedelta(0)

    @property
    def uses(self) -> tuple[tuple[str, ...], ...]:
        """The fields of each input that it looks at."""
        return tuple((p.amount, *filter(None, [p.recorded]), *(c.field for c in p.only.conditions)) for p in self.parts)

    @property
    def fields(self) -> tuple[Field, ...]:
        """What its events hold: fields of the same name and type in all logs."""
        first, *others = self.inputs
        shared = [f for f in first.fields if all(_alike(f, o) for o in others) and f.name not in self.made]
        amounts = [s.field(p.amount) for s, p in zip(self.inputs, self.parts, strict=True)]
        scale = max(a.scale for a in amounts)
        amount = amounts[0]
        total = Field("amount", amount.type, amount.unit, scale)
        recorded = (dataclasses.replace(total, name="balance"),) if "balance" in self.made else ()
        return (*shared, total, *recorded, Field("log"))

    @property
    def made(self) -> tuple[str, ...]:
        """The fields that are its own."""
        return ("amount", "log", *(["balance"] if any(p.recorded for p in self.parts) else []))

    def disagreeing(self, table: Any) -> Any:
        """The events whose recorded balance is not the sum of all amounts of their account up to them, with that sum as
        `sum_`.

        `table` must hold the account from its first movement on.
        """
        import ibis

        keys = [table[Field(name).stored] for name in self.by]
        window = ibis.window(group_by=keys, order_by=in_order(table), preceding=None, following=0)
        summed = table.mutate(sum_=table.amount.sum().over(window).cast("int64"))
        return summed.filter(summed.balance.notnull() & (summed.balance != summed.sum_))

    def events(self, tables: Sequence[Any], reached: Reached) -> Any:
        """Everything, one log after the other."""
        import ibis

        total = next(f for f in self.fields if f.name == "amount")
        shared = [f for f in self.fields if f.name not in self.made]
        found = []
        for schema, part, table in zip(self.inputs, self.parts, tables, strict=True):
            tests = part.only.predicates(table, schema)
            table = table.filter(tests) if tests else table
            amount = schema.field(part.amount)
            value = column(table, amount) * (part.sign * 10 ** (total.scale - amount.scale))
            named = {f.stored: table[f.stored] for f in shared}
            named["amount"] = value.cast("int64")
            if "balance" in self.made:
                held = schema.field(part.recorded) if part.recorded else None
                scaled = table[held.stored] * 10 ** (total.scale - held.scale) if held else ibis.null("int64")
                named["balance"] = scaled.cast("int64")
            found.append(table.select(
                start_utc=table.start_utc, finish_utc=table.finish_utc, **named,
                log=ibis.literal(schema.name), **{p: table[p] for p in PROVENANCE},
            ))  # fmt: skip
        return found[0] if len(found) == 1 else ibis.union(*found, distinct=False)


def _alike(field: Field, schema: LogSchema) -> bool:
    other = next((f for f in schema.fields if f.name == field.name), None)
    return other is not None and (other.type, other.scale, other.names) == (field.type, field.scale, field.names)
