"""Ways to a receiver: a POST by HTTP, or a message by MQTT."""

from __future__ import annotations

import json
import re
import threading
import urllib.error
import urllib.request
import uuid
from contextlib import suppress
from typing import Any, Protocol
from urllib.parse import urlsplit

from drover import __version__
from drover.core.errors import DroverError
from drover.core.live_session.outbox import token_of
from drover.core.settings.send import ReceiverSettings

__all__ = ["ANSWER_WITHIN", "Carrier", "carrier_of"]

ANSWER_WITHIN = 10.0  # s
AT_LEAST_ONCE = 1  # MQTT's quality of service: the broker confirms, a repeat may come
PORTS = {"mqtt": 1883, "mqtts": 8883}


class Carrier(Protocol):
    """Brings one event at a time."""

    def carry(self, event: dict[str, Any], line: bytes) -> str:
        """Bring an event, ``line`` in the file; returns what went wrong, empty where it was taken."""
        ...

    def close(self) -> None:
        """Let go of the connection."""
        ...


def carrier_of(receiver: ReceiverSettings) -> Carrier:
    """The way to a receiver, by the scheme of its address.

    Raises
    ------
    DroverError
        When its token is named but not there, or MQTT's client is not installed.
    """
    return ByMqtt(receiver) if urlsplit(receiver.url).scheme in PORTS else ByHttp(receiver)


class _NoDetours(urllib.request.HTTPRedirectHandler):
    """A redirect would turn a POST into a question, and carry the token elsewhere."""

    def redirect_request(self, *_: Any, **__: Any) -> None:
        return None


class ByHttp:
    """Each event a POST of its own, in JSON; any answer of 2xx means that it was taken."""

    def __init__(self, receiver: ReceiverSettings) -> None:
        self._url, token = receiver.url, token_of(receiver)
        self._headers = {"Content-Type": "application/json", "User-Agent": f"Drover/{__version__}"}
        if token:
            self._headers["Authorization"] = f"Bearer {token}"
        self._opener = urllib.request.build_opener(_NoDetours)

    def carry(self, event: dict[str, Any], line: bytes) -> str:
        """Post it."""
        del event
        request = urllib.request.Request(self._url, line, self._headers, method="POST")
        try:
            with self._opener.open(request, timeout=ANSWER_WITHIN) as answer:
                answer.read(10_000)
        except urllib.error.HTTPError as error:
            error.close()
            return f"answered {error.code}"
        except (OSError, ValueError) as error:
            return str(getattr(error, "reason", error))[:120] or type(error).__name__
        return ""

    def close(self) -> None:
        """Nothing is kept open."""


class ByMqtt:
    """Each event a message at ``TOPIC/KIND[/LINE]``, confirmed by the broker (MQTT 3.1.1 or 5).

    Totals are retained, so that who comes later has them at once; ``TOPIC/state`` says "running", "ended", or by the
    broker itself "lost" where the connection breaks.
    """

    def __init__(self, receiver: ReceiverSettings) -> None:
        try:
            from paho.mqtt import client
        except ImportError as error:
            raise DroverError(
                f"receiver {receiver.name}: MQTT's client is missing; install it with pip install 'drover[mqtt]'"
            ) from error
        self._mqtt, self._receiver, self._token = client, receiver, token_of(receiver)
        self._client: Any = None
        self._refused: dict[int, str] = {}  # by a message's number, why the broker would not have it
        self._name = f"drover-{uuid.uuid4().hex[:12]}"

    def carry(self, event: dict[str, Any], line: bytes) -> str:
        """Publish it, and wait for the broker's word."""
        try:
            client = self._connected()
            self._tell(client, _topic(event), line, retain=event.get("kind") == "totals")
            lines = event.get("lines")
            if event.get("kind") == "totals" and isinstance(lines, dict):
                for name, totals in lines.items():
                    self._tell(client, f"line/{_level(name)}", json.dumps(totals).encode(), retain=True)
        except (OSError, ValueError, RuntimeError) as error:
            self._drop()
            return str(error)[:120] or type(error).__name__
        return ""

    def close(self) -> None:
        """Say that the run has ended, and go."""
        if self._client is not None:
            with suppress(OSError, ValueError, RuntimeError):
                self._tell(self._client, "state", b"ended", retain=True)
            self._drop()

    def _tell(self, client: Any, topic: str, payload: bytes, *, retain: bool) -> None:
        sent = client.publish(f"{self._receiver.topic}/{topic}", payload, qos=AT_LEAST_ONCE, retain=retain)
        sent.wait_for_publish(ANSWER_WITHIN)
        if not sent.is_published():
            raise OSError("the broker does not confirm")
        refused = self._refused.pop(sent.mid, "")
        if refused:
            raise OSError(f"the broker refuses: {refused}")

    def _connected(self) -> Any:
        """The client, connected; made anew after any trouble."""
        if self._client is not None:
            return self._client
        mqtt, parts = self._mqtt, urlsplit(self._receiver.url)
        version = mqtt.MQTTv5 if self._receiver.mqtt_version == "5" else mqtt.MQTTv311
        client = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2, self._name, protocol=version, reconnect_on_failure=False)
        if self._receiver.user or self._token:
            client.username_pw_set(self._receiver.user, self._token or None)
        if parts.scheme == "mqtts":
            client.tls_set()
        client.will_set(f"{self._receiver.topic}/state", b"lost", qos=AT_LEAST_ONCE, retain=True)
        answered, answers = threading.Event(), list[str]()
        self._refused.clear()  # another client's messages have numbers of their own

        def on_connect(_client: Any, _data: Any, _flags: Any, reason: Any, _properties: Any) -> None:
            answers.append(str(reason) if reason.is_failure else "")
            answered.set()

        def on_publish(_client: Any, _data: Any, number: int, reason: Any, _properties: Any) -> None:
            if reason.is_failure:  # MQTT 5 alone says so: it is answered, but not taken
                self._refused[number] = str(reason)

        client.on_connect, client.on_publish, client.connect_timeout = on_connect, on_publish, ANSWER_WITHIN
        self._client = client
        client.connect(parts.hostname or "", parts.port or PORTS[parts.scheme])
        client.loop_start()
        if not answered.wait(ANSWER_WITHIN):
            raise OSError("the broker does not answer")
        if answers[0]:
            raise OSError(f"the broker says: {answers[0]}")
        self._tell(client, "state", b"running", retain=True)
        return client

    def _drop(self) -> None:
        client, self._client = self._client, None
        if client is not None:
            client.disconnect()
            client.loop_stop()


def _topic(event: dict[str, Any]) -> str:
    """Where an event goes: its kind, and the line, zone or place that it belongs to."""
    kind = str(event.get("kind"))
    place = event.get("line") or event.get("zone") or event.get("place")
    return f"{kind}/{_level(place)}" if place else kind


def _level(name: object) -> str:
    """A name as one level of a topic: without what has a meaning there."""
    return re.sub(r"[/+#\x00-\x1f]", "-", str(name)) or "-"
