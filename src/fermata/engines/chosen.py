"""Which engine works figures out, as `fermata.toml` says it."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import Field, model_validator

from fermata.strict import Strict

__all__ = ["EngineMap"]


class EngineMap(Strict):
    """[workspace.engine], or `engine = "spark"`: what works figures out.

    `remote` is the address of a Spark Connect server (sc://host:15002), `remote_env` the environment variable that
    holds it where it has a token; without either, a session of this machine with so many `workers` (threads) and
    `memory` is started. `archive` is where the workers find the archive.
    """

    alone = ("name", ("string",))
    name: Literal["embedded", "spark"] = "embedded"
    remote: str = ""
    remote_env: str = ""
    archive: str = ""
    workers: int = Field(default=0, ge=0)
    memory: str = Field(default="2g", pattern=r"^[1-9]\d*[mg]$")

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if self.name == "embedded" and self.model_fields_set - {"name"}:
            raise ValueError('the embedded engine has no settings; they go with name = "spark"')
        if self.remote and self.remote_env:
            raise ValueError("give one of remote, remote_env")
        if "token=" in self.remote:
            raise ValueError("a token does not belong here; put the address into an environment variable (remote_env)")
        if (self.remote or self.remote_env) and {"workers", "memory"} & self.model_fields_set:
            raise ValueError("workers and memory are for a session of this machine, not a remote one")
        return self
