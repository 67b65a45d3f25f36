"""Settings of what a live run tells others, and whom."""

from __future__ import annotations

from typing import Literal
from urllib.parse import urlsplit

from pydantic import Field, field_validator, model_validator

from drover.core.settings.base import Settings, dial

__all__ = ["ReceiverSettings", "SendSettings"]

MOST_RECEIVERS = 20
SCHEMES = ("http", "https", "mqtt", "mqtts")
What = Literal["crossings", "stays", "alarms", "totals"]


class ReceiverSettings(Settings):
    """One receiver of events, in JSON: by HTTP each is a POST, by MQTT a message, tried again until it was taken."""

    name: str = Field(min_length=1, max_length=60, description="What the receiver is called.")
    url: str = Field(max_length=2000, description="Where events go to: http, https, mqtt or mqtts.")
    what: tuple[What, ...] = Field(
        default=("crossings", "stays", "alarms", "totals"), description="Which events are sent."
    )
    password_env: str = Field(
        default="", max_length=200, description="Variable of the environment that holds the receiver's access token."
    )
    password_file: str = Field(default="", max_length=1000, description="File that holds it, where no variable does.")

    user: str = Field(default="", max_length=200, description="Name to log in with at an MQTT broker.")
    topic: str = Field(
        default="drover", min_length=1, max_length=200, pattern=r"^[^+#\x00-\x1f/]+(/[^+#\x00-\x1f/]+)*$",
        description="Where in an MQTT broker's topics events stand; kind and line follow.",
    )  # fmt: skip
    mqtt_version: Literal["3.1.1", "5"] = Field(default="3.1.1", description="Which MQTT is spoken.")

    @field_validator("url")
    @classmethod
    def _url_usable(cls, value: str) -> str:
        try:
            parts = urlsplit(value)
            usable = parts.scheme in SCHEMES and parts.hostname is not None and parts.port != 0
            secret = parts.password is not None
        except ValueError:
            usable = secret = False
        if not usable or not value.isprintable() or " " in value:
            raise ValueError("must be an address as https://place.example/events or mqtt://place.example")
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
