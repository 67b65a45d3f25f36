"""Settings of what a live run tells others, and whom."""

from __future__ import annotations

from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from drover.core.settings.base import Settings, dial

__all__ = ["ReceiverSettings", "SendSettings"]

MOST_RECEIVERS = 20
What = Literal["crossings", "stays", "alarms", "totals"]


class ReceiverSettings(Settings):
    """One receiver of events, by HTTP: each event is a POST of its own, in JSON, until it was taken."""

    name: str = Field(min_length=1, max_length=60, description="What the receiver is called.")
    url: str = Field(max_length=2000, description="Where events are posted to, http or https.")
    what: tuple[What, ...] = Field(
        default=("crossings", "stays", "alarms", "totals"), description="Which events are sent."
    )
    password_env: str = Field(
        default="", max_length=200, description="Variable of the environment that holds the receiver's access token."
    )
    password_file: str = Field(default="", max_length=1000, description="File that holds it, where no variable does.")

    @field_validator("url")
    @classmethod
    def _url_usable(cls, value: str) -> str:
        try:
            parts = urlsplit(value)
            usable = parts.scheme in ("http", "https") and parts.hostname is not None and parts.port != 0
            secret = parts.password is not None
        except ValueError:
            usable = secret = False
        if not usable or not value.isprintable() or " " in value:
            raise ValueError("must be an address as https://place.example/events")
        if secret:
            raise ValueError("must hold no password; name a variable or a file that does")
        return value


class SendSettings(Settings):
    """What a live run tells others; no result depends on it."""

    totals_every: float = dial(60.0, 1.0, 86400.0, "s", "How often the totals so far are an event of their own.", 10.0)
    receiver: tuple[ReceiverSettings, ...] = Field(default=(), description="Who is told, one table each.")

    @model_validator(mode="after")
    def _names_differ(self) -> SendSettings:
        names = [one.name for one in self.receiver]
        if len(set(names)) < len(names) or len(names) > MOST_RECEIVERS:
            raise ValueError(f"receivers need names that differ, and there may be {MOST_RECEIVERS} at most")
        return self
