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

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from fermata.timeline.lengths import exact, length

__all__ = ["ADDRESS", "Delivery", "How", "MailMap", "OnlyIf", "Split", "Target", "bytes_of"]

ADDRESS = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")
FORMS = ("txt", "csv", "tsv", "json", "jsonl", "xml", "md", "html", "pdf", "xlsx", "parquet", "png", "svg")
SIZE = re.compile(r"(\d+) *(kB|MB|GB)")
UNITS = {"kB": 1_000, "MB": 1_000_000, "GB": 1_000_000_000}


class Strict(BaseModel):
    """A table in which an unknown key is an error, and which never changes."""

    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


def _several(value: Any) -> Any:
    return (value,) if isinstance(value, str) else value


def _addresses(values: tuple[str, ...]) -> tuple[str, ...]:
    for text in values:
        if not ADDRESS.fullmatch(text):
            raise ValueError(f"{text!r} is no mail address; write name@example.org")
    return values


def bytes_of(text: str) -> int:
    """A size as people write it, in bytes (decimal units). Raises ValueError."""
    m = SIZE.fullmatch(text.strip())
    if not m:
        raise ValueError(f"{text!r} is no size; write 500 kB or 5 MB")
    return int(m[1]) * UNITS[m[2]]


How = Literal["attached", "zipped", "link", "in the text"]


class MailMap(Strict):
    """`[mail]` of `fermata.toml`: the server, who sends, and how results go to addresses inside and outside.

    `inside` are the organisation's own domains. A link leads to `share_address` + file, which lies in the folder `share`.
    """

    server: str
    port: int = Field(default=0, ge=0, le=65535)
    security: Literal["starttls", "tls", "none"] = "starttls"
    certificates: str = ""
    user: str = ""
    password_env: str = ""
    password_file: str = ""
    sender: str
    sender_name: str = ""
    reply_to: str = ""
    inside: tuple[str, ...] = ()
    how_inside: How = "attached"
    how_outside: How = "attached"
    zip_above: str = "5 MB"
    share: str = ""
    share_address: str = ""
    timeout: int = Field(default=60, ge=1, le=600)

    _lists = field_validator("inside", mode="before")(_several)

    @field_validator("sender", "reply_to")
    @classmethod
    def _address(cls, text: str) -> str:
        return _addresses((text,))[0] if text else text

    @field_validator("zip_above")
    @classmethod
    def _size(cls, text: str) -> str:
        bytes_of(text)
        return text

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if bool(self.share) is not bool(self.share_address):
            raise ValueError("share (the folder) and share_address (where it is reached) go together")
        if "link" in (self.how_inside, self.how_outside) and not self.share:
            raise ValueError("links need share (a folder) and share_address (where it is reached)")
        if self.user and not (self.password_env or self.password_file):
            raise ValueError("user needs password_env or password_file; a password does not belong here")
        if self.user and self.security == "none":
            raise ValueError('a password is not sent in the clear; security is "starttls" or "tls"')
        return self

    @property
    def at(self) -> int:
        """The port: the usual one of the kind of connection unless told."""
        return self.port or {"starttls": 587, "tls": 465, "none": 25}[self.security]

    def is_inside(self, address: str) -> bool:
        """Whether an address is the organisation's own."""
        domain = address.rpartition("@")[2].lower()
        return any(domain == d.lower() or domain.endswith("." + d.lower()) for d in self.inside)


class Target(Strict):
    """Where a result goes: by `mail`, into a `folder`, or to a `webhook`. `subject`, `text` and `name` are templates."""

    mail: tuple[str, ...] = ()
    cc: tuple[str, ...] = ()
    bcc: tuple[str, ...] = ()
    reply_to: str = ""
    how: How | None = None
    subject: str = ""
    text: str = ""
    folder: str = ""
    name: str = "{{ delivery }}-{{ dates }}{% if part %}-{{ part }}{% endif %}"
    keep: int = Field(default=0, ge=0)
    webhook: str = ""
    token_env: str = ""
    token_file: str = ""

    _lists = field_validator("mail", "cc", "bcc", mode="before")(_several)
    _known = field_validator("cc", "bcc")(_addresses)

    @field_validator("mail")
    @classmethod
    def _to(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        return values if values == ("recipient",) else _addresses(values)

    @field_validator("webhook")
    @classmethod
    def _address(cls, text: str) -> str:
        if text and not re.fullmatch(r"https?://[^\s@/]+(/\S*)?", text):
            raise ValueError(f"{text!r} is no address; write https://host/path, without user and password")
        return text

    @model_validator(mode="after")
    def _one(self) -> Self:
        if sum(map(bool, (self.mail, self.folder, self.webhook))) != 1:
            raise ValueError("give one of mail, folder or webhook")
        return self

    @property
    def words(self) -> str:
        """Where it goes, in words."""
        return (
            "mail to whom a part is for"
            if self.mail == ("recipient",)
            else f"mail to {', '.join(self.mail)}"
            if self.mail
            else f"folder {self.folder}"
            if self.folder
            else f"webhook {self.webhook}"
        )


class Split(Strict):
    """One run for many: a part for each value of a field or register attribute. The `recipient` of a part is an attribute or name of
    the register that knows the value (`mail`), or stands in `addresses`. Empty parts are skipped unless told.
    """

    by: str
    recipient: str = ""
    addresses: dict[str, str] = Field(default_factory=dict)
    empty: Literal["skip", "send"] = "skip"

    @field_validator("addresses")
    @classmethod
    def _known(cls, values: dict[str, str]) -> dict[str, str]:
        _addresses(tuple(values.values()))
        return values


class OnlyIf(Strict):
    """An alert: it goes out only while `rows` of the result meet the condition (`Open > 10`; `rows > 0` counts them), or where there is
    no record `no_data_for` a time. It stays quiet for `quiet` after it went out.
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
    """A report on a timetable, with recipients. `report` is a report of the workspace or a ready one, `last` the last run as it was when
    the delivery was saved. `set` changes keys of it. `hold` names reports whose verdict must be in order; with `wait`, it waits that
    long at most until the logs cover the period. In doubt whether something arrived, it goes out `again` (under the same identity)
    or is left to people (`leave`).
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

    _lists = field_validator("formats", "hold", mode="before")(_several)

    @field_validator("formats")
    @classmethod
    def _forms(cls, values: tuple[str, ...]) -> tuple[str, ...]:
        for text in values:
            if text not in FORMS:
                raise ValueError(f"there is no form {text!r} (forms: {', '.join(FORMS)})")
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
