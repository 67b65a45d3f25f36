"""Events of a live run, brought to a real HTTP server and a real MQTT broker that fail, go away and come back."""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import threading
import time
from contextlib import contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import paho.mqtt.client as mqtt
import pytest

from drover.core.count.alarms import Alarm
from drover.core.count.live import LiveCrossing, LiveEvents
from drover.core.errors import DroverError, RecipeError
from drover.core.live_session.courier import Courier
from drover.core.live_session.outbox import Outbox, token_of
from drover.core.live_session.results import LiveResults
from drover.core.recipe import CountSettings, LineSettings, Recipe, dump_recipe, parse_recipe
from drover.core.settings.send import ReceiverSettings

QUICK = (0.05, 0.1)


class Office:
    """Takes what is posted; answers with ``answers`` first, then with 200."""

    def __init__(self) -> None:
        self.taken: list[dict] = []
        self.tokens: set[str | None] = set()
        self.answers: list[int] = []
        self.asked = 0
        self.port = 0

    @contextmanager
    def open(self):
        office = self

        class Desk(BaseHTTPRequestHandler):
            def do_POST(self):
                office.asked += 1
                body = self.rfile.read(int(self.headers["Content-Length"]))
                code = office.answers.pop(0) if office.answers else 200
                if code == 200:
                    office.taken.append(json.loads(body))
                    office.tokens.add(self.headers.get("Authorization"))
                self.send_response(code)
                if code == 302:
                    self.send_header("Location", f"http://127.0.0.1:{office.port}/elsewhere")
                self.send_header("Content-Length", "0")
                self.end_headers()

            def log_message(self, *_):
                pass

        server = ThreadingHTTPServer(("127.0.0.1", self.port), Desk)
        self.port = server.server_address[1]
        thread = threading.Thread(target=server.serve_forever, args=(0.02,))
        thread.start()
        try:
            yield
        finally:
            server.shutdown()
            thread.join()
            server.server_close()

    def receiver(self, **more) -> ReceiverSettings:
        return ReceiverSettings(name="Office", url=f"http://127.0.0.1:{self.port}/events", **more)


def until(condition, seconds=15.0):
    deadline = time.monotonic() + seconds
    while not condition() and time.monotonic() < deadline:
        time.sleep(0.01)
    assert condition()


def crossing(number: int) -> dict:
    return {"kind": "crossing", "number": number}


def test_every_event_arrives_once_and_in_order_though_the_receiver_fails_and_goes_away(tmp_path):
    office, outbox = Office(), Outbox(tmp_path, "run")
    office.answers = [500, 503, 302, 404]
    with office.open():
        courier = Courier(tmp_path, office.receiver(), patience=QUICK)
        outbox.add([crossing(1), {"kind": "stay"}, crossing(2)])
        until(lambda: len(office.taken) == 3)
    outbox.add([crossing(n) for n in range(3, 30)])  # nobody is there
    until(lambda: courier.delivery.trouble != "")
    assert courier.delivery.waiting > 0
    courier.close()
    with (tmp_path / "events.jsonl").open("a") as file:
        file.write('{"id": "cut by a ki\n')
    # Another courier goes on where that one was, as after a kill.
    with office.open():
        again = Courier(tmp_path, office.receiver(), patience=QUICK)
        outbox.add([crossing(30)])
        ended = again.close(15.0)
    outbox.close()
    assert (ended.waiting, ended.trouble) == (0, "")
    assert [event["number"] for event in office.taken if event["kind"] == "crossing"] == list(range(1, 31))
    assert len({event["id"] for event in office.taken}) == 31
    assert office.tokens == {None}


def test_a_receiver_gets_what_it_asked_for_with_its_token_and_the_token_stays_secret(tmp_path, monkeypatch):
    office, outbox = Office(), Outbox(tmp_path, "run")
    monkeypatch.setenv("OFFICE_TOKEN", "sesame\n")
    outbox.add([crossing(1), {"kind": "totals", "lines": {}}, {"kind": "alarm"}, crossing(2)])
    with office.open():
        wanted = office.receiver(what=("totals", "alarms"), password_env="OFFICE_TOKEN")
        ended = Courier(tmp_path, wanted, patience=QUICK).close(15.0)
    outbox.close()
    assert [event["kind"] for event in office.taken] == ["totals", "alarm"]
    assert office.tokens == {"Bearer sesame"}
    assert ended.taken == 2
    assert not any("sesame" in path.read_text() for path in tmp_path.iterdir())
    (tmp_path / "token").write_text("from a file\n")
    assert token_of(office.receiver(password_file=str(tmp_path / "token"))) == "from a file"
    with pytest.raises(DroverError, match="NOT_SET is not set"):
        token_of(office.receiver(password_env="NOT_SET"))
    with pytest.raises(DroverError, match="cannot be read"):
        token_of(office.receiver(password_file=str(tmp_path / "gone")))


def test_what_a_run_brings_is_told_in_order_of_time_with_names_and_the_clock_on_the_wall(tmp_path):
    line = LineSettings(name="Gap", points=((0.5, 0.9), (0.5, 0.1)), back_name="home")
    results = LiveResults(tmp_path, Recipe(count=CountSettings(line=(line,))), datetime(2031, 5, 4, 12, tzinfo=UTC))
    late, soon = LiveCrossing(0, 7, 1, 9.5, 0, 5.0, 6.0), LiveCrossing(0, 8, -1, 9.25, 0, 1.0, 2.0)
    results.add(LiveEvents((late, soon), (), (Alarm("wrong way", "Gap", 8, 3, 9.4, 1.0, 0.0),)), 240)
    results.tell_totals(10.0)
    results.close()
    told = [json.loads(row) for row in (tmp_path / "events.jsonl").read_text().splitlines()]
    assert [event["kind"] for event in told] == ["crossing", "alarm", "crossing", "totals"]
    assert told[0]["way"] == "home"
    assert told[0]["at"] == "2031-05-04T12:00:09.250+00:00"
    assert told[3]["lines"] == {"Gap": {"forward": 1, "back": 1}}
    assert [event["id"][-2:] for event in told] == ["-1", "-2", "-3", "-4"]


def test_receivers_in_a_recipe():
    receiver = 'name = "Office"  # ours\nurl = "https://office.example/in"\nwhat = ["totals"]\n'
    text = f"[send]\ntotals_every = 5\n\n[[send.receiver]]\n{receiver}"
    recipe = parse_recipe(text)
    assert recipe.send.totals_every == 5.0
    assert recipe.send.receiver[0].what == ("totals",)
    assert parse_recipe(dump_recipe(recipe, text)) == recipe
    assert "# ours" in dump_recipe(recipe, text)
    for url in ("ftp://office.example", "office", "http://", "http://a:b@office.example", "http://office.example/a b"):
        with pytest.raises(RecipeError, match="must"):
            parse_recipe(text.replace("https://office.example/in", url))
    with pytest.raises(RecipeError, match="names that differ"):
        parse_recipe(text + text[text.index("[[") :])


BROKER = (
    "listeners:\n  default: {{type: tcp, bind: '127.0.0.1:{port}'}}\nplugins:\n  amqtt.plugins.authentication.{how}\n"
)
NOBODY, GUESTS = "FileAuthPlugin: {{password_file: {file}}}", "AnonymousAuthPlugin: {allow_anonymous: true}"


@contextmanager
def broker(folder, port, how=GUESTS):
    """A real MQTT broker in a process of its own."""
    settings = folder / "broker.yaml"
    settings.write_text(BROKER.format(port=port, how=how))
    process = subprocess.Popen([Path(sys.executable).with_name("amqtt"), "-c", settings], stderr=subprocess.DEVNULL)
    try:
        until(lambda: is_open(port))
        yield
    finally:
        process.kill()
        process.wait()


def is_open(port) -> bool:
    with socket.socket() as there:
        return there.connect_ex(("127.0.0.1", port)) == 0


def free_port() -> int:
    with socket.socket() as place:
        place.bind(("127.0.0.1", 0))
        return place.getsockname()[1]


@contextmanager
def listener(port, version=mqtt.MQTTv311):
    """All that is published under ``farm``, as (topic, text, retained)."""
    heard: list[tuple[str, str, bool]] = []
    client = mqtt.Client(mqtt.CallbackAPIVersion.VERSION2, protocol=version)
    client.on_connect = lambda client, *_: client.subscribe("farm/#", qos=1)
    client.on_message = lambda _c, _d, message: heard.append((message.topic, message.payload.decode(), message.retain))
    ready = threading.Event()
    client.on_subscribe = lambda *_: ready.set()
    client.connect("127.0.0.1", port)
    client.loop_start()
    try:
        assert ready.wait(15)
        yield heard
    finally:
        client.disconnect()
        client.loop_stop()


def test_a_broker_gets_every_event_once_and_in_order_though_it_goes_away_and_keeps_the_totals(tmp_path):
    port, outbox = free_port(), Outbox(tmp_path, "run")
    receiver = ReceiverSettings(name="Barn", url=f"mqtt://127.0.0.1:{port}", topic="farm/gap")
    totals = {"kind": "totals", "time": 9.0, "lines": {"Upper/lower": {"forward": 3, "back": 1}}}

    def events(heard):
        return [json.loads(text) for topic, text, _ in heard if topic == "farm/gap/crossing/Upper-lower"]

    with broker(tmp_path, port), listener(port) as heard:
        courier = Courier(tmp_path, receiver, patience=QUICK)
        outbox.add([crossing(n) | {"line": "Upper/lower"} for n in range(1, 4)])
        until(lambda: len(events(heard)) == 3)
    first = events(heard)
    outbox.add([crossing(n) | {"line": "Upper/lower"} for n in range(4, 9)])  # nobody is there
    until(lambda: courier.delivery.trouble != "")
    courier.close()
    with broker(tmp_path, port), listener(port) as heard:
        courier = Courier(tmp_path, receiver, patience=QUICK)
        until(lambda: len(events(heard)) >= 5)
        outbox.add([totals])
        assert courier.close(15.0).waiting == 0
        until(lambda: ("farm/gap/state", "ended", False) in heard)
        with listener(port) as later:
            kept = {"farm/gap/state", "farm/gap/line/Upper-lower", "farm/gap/totals"}
            until(lambda: kept <= {topic for topic, _, retained in later if retained})
    outbox.close()
    numbers = [event["number"] for event in first + events(heard)]
    assert sorted(set(numbers)) == list(range(1, 9)), "none is lost"
    assert [n for k, n in enumerate(numbers) if n not in numbers[:k]] == list(range(1, 9)), "and they come in order"
    told = {topic: text for topic, text, retained in later if retained}
    assert told["farm/gap/state"] == "ended"
    assert json.loads(told["farm/gap/line/Upper-lower"]) == {"forward": 3, "back": 1}
    assert json.loads(told["farm/gap/totals"])["lines"] == totals["lines"]


def test_a_broker_that_asks_for_a_name_and_is_not_given_it_is_said_in_one_line(tmp_path):
    port, outbox = free_port(), Outbox(tmp_path, "run")
    (tmp_path / "names").write_text("")
    receiver = ReceiverSettings(name="Barn", url=f"mqtt://127.0.0.1:{port}", user="nobody")
    with broker(tmp_path, port, NOBODY.format(file=tmp_path / "names")):
        courier = Courier(tmp_path, receiver, patience=QUICK)
        outbox.add([crossing(1)])
        until(lambda: courier.delivery.trouble != "")
        ended = courier.close()
    outbox.close()
    assert ended.waiting > 0
    assert "\n" not in ended.trouble


# --- MQTT 5, byte by byte as its standard has it (OASIS 2019) -------------------------------------------------------


class Peer:
    """One end of MQTT 5 by hand: takes the first who connects, notes what comes, and answers with given reasons."""

    def __init__(self, *, welcome: int = 0, answers: tuple[int, ...] = ()) -> None:
        self.welcome, self.answers = welcome, list(answers)
        self.connect: dict[str, object] = {}
        self.published: list[tuple[str, bytes, bool]] = []
        self.left = threading.Event()

    @contextmanager
    def open(self):
        with socket.create_server(("127.0.0.1", 0)) as server:
            server.settimeout(0.1)
            self.port, over = server.getsockname()[1], threading.Event()
            thread = threading.Thread(target=self._serve, args=(server, over))
            thread.start()
            try:
                yield self
            finally:
                over.set()
                thread.join()

    def _serve(self, server, over) -> None:
        while not over.is_set():
            try:
                line, _ = server.accept()
            except TimeoutError:
                continue
            with line:
                line.settimeout(5.0)
                try:
                    while self._take(line):
                        pass
                except (OSError, EOFError):
                    pass

    def _take(self, line) -> bool:
        head, body = _read(line, 1)[0], _read(line, _varint(lambda: _read(line, 1)[0]))
        if head >> 4 == 1:
            self._note_connect(body)
            line.sendall(bytes([0x20, 3, 0, self.welcome, 0]))
            return self.welcome == 0
        if head >> 4 == 3:
            topic, rest = _text(body)
            number, rest = rest[:2], rest[2:]
            assert (head >> 1) & 3 == 1, "at least once"
            reason = self.answers.pop(0) if self.answers else 0
            if reason == 0:
                self.published.append((topic.decode(), _past_properties(rest), bool(head & 1)))
            line.sendall(bytes([0x40, 4, *number, reason, 0]))
        elif head >> 4 == 12:
            line.sendall(bytes([0xD0, 0]))
        elif head >> 4 == 14:
            self.left.set()
            return False
        return True

    def _note_connect(self, body: bytes) -> None:
        name, rest = _text(body)
        self.connect = {"protocol": name, "level": rest[0], "flags": rest[1]}
        _, rest = _text(_past_properties(rest[4:]))  # after the seconds it may be silent: properties, then its name
        topic, rest = _text(_past_properties(rest))
        self.connect["will"] = topic, _text(rest)[0]


def _read(line, count: int) -> bytes:
    out = b""
    while len(out) < count:
        more = line.recv(count - len(out))
        if not more:
            raise EOFError
        out += more
    return out


def _varint(take) -> int:
    value = shift = 0
    while True:
        byte = take()
        value |= (byte & 127) << shift
        shift += 7
        if byte < 128:
            return value


def _past_properties(body: bytes) -> bytes:
    rest = iter(body)
    length = _varint(lambda: next(rest))
    return bytes(rest)[length:]


def _text(body: bytes) -> tuple[bytes, bytes]:
    length = int.from_bytes(body[:2], "big")
    return body[2 : 2 + length], body[2 + length :]


def at_five(peer: Peer, **more: object) -> ReceiverSettings:
    return ReceiverSettings(name="Barn", url=f"mqtt://127.0.0.1:{peer.port}", topic="farm", mqtt_version="5", **more)


def test_mqtt_5_is_spoken_as_its_standard_has_it(tmp_path):
    with Peer().open() as peer:
        outbox, courier = Outbox(tmp_path, "run"), Courier(tmp_path, at_five(peer), patience=QUICK)
        outbox.add([crossing(n) for n in range(1, 4)])
        until(lambda: len(peer.published) == 4)
        assert courier.close(15.0).waiting == 0
        until(peer.left.is_set)
        outbox.close()
    assert (peer.connect["protocol"], peer.connect["level"]) == (b"MQTT", 5)
    assert peer.connect["will"] == (b"farm/state", b"lost")
    assert peer.connect["flags"] & 0b00111100 == 0b00101100, "a will, kept, at least once"
    topics = [topic for topic, _, _ in peer.published]
    assert topics[0] == topics[-1] == "farm/state" and [kept for _, _, kept in peer.published] == [
        True,
        *[False] * 3,
        True,
    ]
    assert [json.loads(text)["number"] for topic, text, _ in peer.published if "crossing" in topic] == [1, 2, 3]


def test_what_a_broker_of_mqtt_5_refuses_is_not_taken_for_delivered(tmp_path):
    """It answers, but with a reason: over its quota. Once that was as good as taken, and the event was gone."""
    with Peer(answers=(0, 0, 0x97, 0x97)).open() as peer:
        outbox, courier = Outbox(tmp_path, "run"), Courier(tmp_path, at_five(peer), patience=QUICK)
        outbox.add([crossing(n) for n in range(1, 4)])
        until(lambda: "uota" in courier.delivery.trouble)
        until(lambda: courier.delivery.waiting == 0)
        courier.close(15.0)
        outbox.close()
    numbers = [json.loads(text)["number"] for topic, text, _ in peer.published if "crossing" in topic]
    assert sorted(set(numbers)) == [1, 2, 3], "none is lost"


def test_a_broker_of_mqtt_5_that_lets_nobody_in_is_said_in_one_line(tmp_path):
    with Peer(welcome=0x87).open() as peer:
        outbox, courier = Outbox(tmp_path, "run"), Courier(tmp_path, at_five(peer), patience=QUICK)
        outbox.add([crossing(1)])
        until(lambda: courier.delivery.trouble != "")
        ended = courier.close()
        outbox.close()
    assert "ot authorized" in ended.trouble and "\n" not in ended.trouble and ended.waiting > 0
