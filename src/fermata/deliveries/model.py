"""A delivery as people write it: `deliveries/NAME.toml`. Validated, immutable.

report  = "refused-entries"
period  = "last month"
when    = "monthly on the 1st at 07:00"
formats = ["pdf", "xlsx"]
[[to]]
mail    = ["security@quillmere.example"]
subject = "{{ title }}: {{ period }}"
[[to]]
folder  = "/srv/reports/security"
name    = "refused-{{ dates }}"
keep    = 12
"""

from __future__ import annotations

import re
from datetime import date
from typing import Any, Literal, Self

from pydantic import AwareDatetime, Field, field_validator, model_validator

from fermata import outputs
from fermata.config.mail import How, addresses, bytes_of
from fermata.strict import Strict, listed
from fermata.timeline.lengths import exact, length

__all__ = ["NO_SERVER", "WAYS", "Delivery", "OnlyIf", "Split", "Target"]

WAYS = {  # by which a result is handed over -> the keys of a target that it goes by
    "mail": ("cc", "bcc", "reply_to", "subject", "text", "zip_above", "how"),
    "folder": ("name", "keep", "index"),
    "webhook": ("token_env", "token_file"),
    "channel": ("address", "options", "subject", "text", "token_env", "token_file"),
}
NO_SERVER = (
    "mail needs a server: [mail] in fermata.toml with server and sender, as in "
    'server = "mail.example.org" and sender = "reports@example.org"'
)


class Target(Strict):
    """Where a result goes: by `mail`, into a `folder` (with `index`, a page there leads to all that is in it), to a
    `webhook`, or by a `channel` that another package brings, to an `address` with `options` of its own. `subject`,
    `text` and `name` are templates.
    """

    mail: tuple[str, ...] = ()
    cc: tuple[str, ...] = ()
    bcc: tuple[str, ...] = ()
    reply_to: str = ""
    how: How | None = None
    zip_above: str = ""
    subject: str = ""
    text: str = ""
    folder: str = ""
    name: str = "{{ delivery }}-{{ dates }}{% if part %}-{{ part }}{% endif %}"
    keep: int = Field(default=0, ge=0)
    index: bool = False
    webhook: str = ""
    channel: str = ""
    address: str = ""
    options: dict[str, str] = Field(default_factory=dict)
    token_env: str = ""
    token_file: str = ""

    _lists = listed("mail", "cc", "bcc")
    _known = field_validator("cc", "bcc")(addresses)

    @field_validator("mail")
    @classmethod
    def _to(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        return values if values == ("recipient",) else addresses(values)

    @field_validator("zip_above")
    @classmethod
    def _size(cls, text: str) -> str:
        if text:
            bytes_of(text)
        return text

    @field_validator("webhook")
    @classmethod
    def _address(cls, text: str) -> str:
        if text and not re.fullmatch(r"https?://[^\s@/]+(/\S*)?", text):
            raise ValueError(f"{text!r} is no address; write https://host/path, without user and password")
        return text

    @model_validator(mode="after")
    def _one(self) -> Self:
        ways = [way for way in WAYS if getattr(self, way)]
        if len(ways) != 1:
            raise ValueError("give one of mail, folder, webhook or channel")
        for key, info in type(self).model_fields.items():
            if key not in (*ways, *WAYS[ways[0]]) and getattr(self, key) != info.get_default(call_default_factory=True):
                fit = [way for way, keys in WAYS.items() if key in keys]
                raise ValueError(f"{key} has no effect with {ways[0]}; it has with {' and '.join(fit)}")
        return self

    @property
    def words(self) -> str:
        """Where it goes, in words."""
        return (
            "mail, one report per person"
            if self.mail == ("recipient",)
            else f"mail to {', '.join(self.mail)}"
            if self.mail
            else f"folder {self.folder}"
            if self.folder
            else f"webhook {self.webhook}"
            if self.webhook
            else f"{self.channel} {self.address}".rstrip()
        )


class Split(Strict):
    """One run for many: a part for each value of a field or register attribute. The `recipient` of a part is an
    attribute or name of the register that knows the value (`mail`), or stands in `addresses`. Empty parts are skipped
    by default.
    """

    by: str
    recipient: str = ""
    addresses: dict[str, str] = Field(default_factory=dict)
    empty: Literal["skip", "send"] = "skip"

    @field_validator("addresses")
    @classmethod
    def _known(cls, values: dict[str, str]) -> dict[str, str]:
        addresses(tuple(values.values()))
        return values


class OnlyIf(Strict):
    """An alert: it goes out only while `rows` of the result meet the condition (`Open > 10`; `rows > 0` counts them),
    or where there is no record `no_data_for` a time. It stays quiet for `quiet` after it went out.
    """

    condition: str = ""
    no_data_for: str = ""
    quiet: str = "1 day"

    @field_validator("no_data_for", "quiet")
    @classmethod
    def _length(cls, text: str) -> str:
        if text:
            exact(text)
        return text

    @model_validator(mode="after")
    def _one(self) -> Self:
        if bool(self.condition) is bool(self.no_data_for):
            raise ValueError("give condition ('Refused > 20', 'rows > 0') or no_data_for ('2 hours')")
        return self


class Delivery(Strict):
    """A report on a timetable, with recipients. `report` is a report of the workspace or a ready one, `last` the last
    run as it was when the delivery was saved. `set` changes keys of it. `hold` names reports whose verdict must be in
    order; with `wait`, it waits that long at most until the logs cover the period. In doubt whether something arrived,
    it goes out `again` (under the same identity) or is left to people (`leave`). `skip` are runs that are left out.
    """

    title: str = ""
    report: str
    period: str = ""
    when: str
    at: str = ""
    starts: date | None = Field(default=None, alias="from")
    formats: tuple[str, ...] = ("pdf",)
    viewer: str = ""
    set: dict[str, Any] = Field(default_factory=dict)
    to: tuple[Target, ...] = Field(min_length=1)
    split: Split | None = None
    only_if: OnlyIf | None = None
    hold: tuple[str, ...] = ()
    wait: str = ""
    keep: str = "90 days"
    make_up: str = "35 days"
    in_doubt: Literal["again", "leave"] = "again"
    paused: bool = False
    skip: tuple[AwareDatetime, ...] = ()

    _lists = listed("formats", "hold")

    @field_validator("formats")
    @classmethod
    def _forms(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        for text in values:
            if not outputs.known(text):
                raise ValueError(f"there is no form {text!r} (forms: {', '.join(outputs.FORMS)})")
        return values

    @field_validator("wait", "make_up")
    @classmethod
    def _exact(cls, text: str) -> str:
        if text:
            exact(text)
        return text

    @field_validator("keep")
    @classmethod
    def _length(cls, text: str) -> str:
        if text != "ever":
            length(text)
        return text

    @model_validator(mode="after")
    def _sense(self) -> Self:
        to_whom = any(t.mail == ("recipient",) for t in self.to)
        if to_whom and not self.split:
            raise ValueError('mail = "recipient" goes with [split], which says whose part goes to whom')
        if self.split and to_whom and not (self.split.recipient or self.split.addresses):
            raise ValueError("[split] needs recipient (an attribute of the register) or [split.addresses]")
        return self
