"""The settings of mail in `fermata.toml`: the server, who sends, and how results go to addresses inside and outside."""

from __future__ import annotations

import re
from typing import Literal, Self

from pydantic import Field, field_validator, model_validator

from fermata.strict import Strict, listed

__all__ = ["ADDRESS", "How", "MailMap", "addresses", "bytes_of"]

ADDRESS = re.compile(r"[A-Za-z0-9.!#$%&'*+/=?^_`{|}~-]+@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")
SIZE = re.compile(r"(\d+) *(kB|MB|GB)")
UNITS = {"kB": 1_000, "MB": 1_000_000, "GB": 1_000_000_000}


def addresses(values: tuple[str, ...]) -> tuple[str, ...]:
    """The mail addresses, checked. Raises ValueError."""
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

    `inside` are the organisation's own domains. A link leads to `share_address` + file, which lies in the folder
    `share`.
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

    _lists = listed("inside")

    @field_validator("sender", "reply_to")
    @classmethod
    def _address(cls, text: str) -> str:
        return addresses((text,))[0] if text else text

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
        """The port: the usual one of the kind of connection by default."""
        return self.port or {"starttls": 587, "tls": 465, "none": 25}[self.security]

    def is_inside(self, address: str) -> bool:
        """Whether an address is the organisation's own."""
        domain = address.rpartition("@")[2].lower()
        return any(domain == d.lower() or domain.endswith("." + d.lower()) for d in self.inside)
