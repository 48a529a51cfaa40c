"""Ways to tell others: webhook, command, system log; when, how often, and how it is tried."""

from __future__ import annotations

import base64
import datetime
import email
import email.policy
import hashlib
import hmac
import http.server
import json
import re
import socket
import threading
import time
import zoneinfo
from collections.abc import Iterator
from typing import Any, ClassVar

import pytest

from conftest import DAY, SETTINGS, TICKETS, Space
from nomotheta.charter import Tell
from nomotheta.workspace import outgoing
from nomotheta.workspace.telling import not_before
from test_run import chain

SECRET = "correct horse"


class Hook(http.server.BaseHTTPRequestHandler):
    """A server that answers with the codes that it is told, and keeps what it got."""

    codes: ClassVar[list[int]] = []
    got: ClassVar[list[tuple[dict[str, str], bytes]]] = []
    pause = 0.0

    def do_POST(self) -> None:
        """Take a message."""
        body = self.rfile.read(int(self.headers["Content-Length"]))
        type(self).got.append(({name.lower(): value for name, value in self.headers.items()}, body))
        time.sleep(self.pause)
        self.send_response(self.codes.pop(0) if self.codes else 204)
        self.end_headers()

    def log_message(self, *_: Any) -> None:
        """Nothing is printed."""


@pytest.fixture
def hook() -> Iterator[str]:
    Hook.codes, Hook.got, Hook.pause = [], [], 0.0
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Hook)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}/told"
    server.shutdown()


def failing(space: Space, entry: str) -> None:
    """A night that fails, and how that is told."""
    chain(space)
    declared(space, entry)
    (space.root / f"inbox/d-{DAY}.csv").unlink(missing_ok=True)


def declared(space: Space, entry: str) -> None:
    """How a night is told."""
    space.write("nomotheta.toml", f"{SETTINGS}\n[tell.ops]\n{entry}\n")


def night(space: Space) -> Any:
    return space.run("run", "--day", DAY, "--create", "d")


def test_a_webhook_that_fails_twice_gets_one_signed_event_that_it_can_tell_apart(
    space: Space, hook: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("HOOK_SECRET", SECRET)
    monkeypatch.setattr("nomotheta.tell.webhook._PAUSES", (0.01, 0.01))
    failing(space, f'url = "{hook}"\nsecret = "${{HOOK_SECRET}}"')
    Hook.codes = [503, 500, 200]

    ended = night(space)
    again = night(space)

    assert (ended.code, ended.err, again.err) == (1, "", "")
    assert len(Hook.got) == 3
    assert len({(headers["idempotency-key"], body) for headers, body in Hook.got}) == 1
    headers, body = Hook.got[-1]
    event = json.loads(body)
    assert {"specversion": "1.0", "type": "nomotheta.told.v1"}.items() <= event.items()
    assert headers["idempotency-key"] == f'"{event["id"]}"'
    assert [each["what"] for each in event["data"]["docket"]] == ["new"]
    digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
    assert headers["content-digest"] == f"sha-256=:{digest}:"
    params = headers["signature-input"].removeprefix("told=")
    covered = re.findall(r'"([a-z-]+)"', params.partition(")")[0])
    base = "\n".join([*(f'"{name}": {headers[name]}' for name in covered), f'"@signature-params": {params}'])
    mac = base64.b64encode(hmac.new(SECRET.encode(), base.encode(), hashlib.sha256).digest()).decode()
    assert headers["signature"] == f"told=:{mac}:"
    assert SECRET not in (space.root / ".nomotheta/ledger.sqlite").read_bytes().decode("latin-1")


def test_a_webhook_that_refuses_is_told_once_and_one_that_hangs_is_tried_with_the_next_run(
    space: Space, hook: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(outgoing, "_PATIENCE", 1)
    failing(space, f'url = "{hook}"')
    Hook.pause = 3
    hanging = night(space)
    Hook.pause = 0
    after = night(space)
    keys = {headers["idempotency-key"] for headers, _ in Hook.got}

    assert "the message could not be sent" in hanging.text
    assert hanging.code == 1
    assert after.err == ""
    assert len(keys) == 1
    Hook.codes = [410]
    refused = space.run("tell", "--test", "ops")
    assert "refused for good: 410" in refused.text
    assert space.run("tell").code == 0


def test_a_command_gets_the_document_and_what_it_says_is_told_if_it_fails(space: Space) -> None:
    failing(space, "url = \"exec:sh -c 'cat > told.json'\"")
    night(space)
    found = json.loads((space.root / "told.json").read_text())

    assert found["docket"][0]["table"] == "d"
    assert found["tables"][0]["mend"]
    declared(space, "url = \"exec:sh -c 'echo no room >&2; exit 7'\"")
    assert "ended with 7: no room" in space.run("tell", "--test", "ops").text
    declared(space, 'url = "exec:no-such-program"')
    assert "cannot be run: No such file" in space.run("tell", "--test", "ops").text


def test_a_system_log_gets_a_line_for_each_change(space: Space) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as log:
        log.bind(("127.0.0.1", 0))
        log.settimeout(20)
        failing(space, f'url = "syslog://127.0.0.1:{log.getsockname()[1]}"')
        night(space)
        line = log.recv(9000).decode()

    assert re.match(r"<28>1 \d{4}-\d\d-\d\dT[\d:.]+Z \S+ nomotheta \d+ docket \[nomotheta@32473 id=\"[^\"]+\" ", line)
    assert 'table="d" verdict="fail"' in line
    assert "\ufeffnew: d:" in line


def test_a_system_log_over_tcp_has_each_line_with_its_length(space: Space) -> None:
    got: list[bytes] = []
    with socket.create_server(("127.0.0.1", 0)) as log:

        def take() -> None:
            stream, _ = log.accept()
            with stream:
                while piece := stream.recv(9000):
                    got.append(piece)

        taking = threading.Thread(target=take)
        taking.start()
        failing(space, f'url = "syslog+tcp://127.0.0.1:{log.getsockname()[1]}"')
        night(space)
        taking.join(20)
    size, _, rest = b"".join(got).partition(b" ")
    assert rest[: int(size)].startswith(b"<28>1 ")
    assert rest[int(size) :].partition(b" ")[0].isdigit()


@pytest.mark.parametrize(
    ("entry", "now", "until"),
    [
        ({}, "2026-06-01T23:30", None),
        ({"quiet": "22:00-06:00"}, "2026-06-01T23:30", "2026-06-02T06:00"),
        ({"quiet": "22:00-06:00"}, "2026-06-02T05:59", "2026-06-02T06:00"),
        ({"quiet": "22:00-06:00"}, "2026-06-02T06:00", None),
        ({"quiet": "12:00-13:00"}, "2026-06-02T12:30", "2026-06-02T13:00"),
        ({"digest": "07:00"}, "2026-06-02T06:00", "2026-06-02T07:00"),
        ({"digest": "07:00"}, "2026-06-02T07:00", "2026-06-03T07:00"),
        ({"digest": "07:00"}, "2026-10-24T12:00", "2026-10-25T07:00"),
    ],
)  # fmt: skip
def test_messages_wait_for_the_end_of_quiet_hours_or_for_the_digest(
    entry: dict[str, str], now: str, until: str | None
) -> None:
    zone = zoneinfo.ZoneInfo("Atlantic/Faroe")
    told = Tell(url="exec:true", **entry)  # type: ignore[arg-type]

    found = not_before(told, datetime.datetime.fromisoformat(now).replace(tzinfo=zone), zone)

    assert (found and found.astimezone(zone).isoformat()[:16]) == until


def test_a_digest_is_one_message_and_no_more_go_out_in_an_hour_than_are_wanted(space: Space) -> None:
    failing(space, 'url = "exec:sh -c \'cat >> told.json; echo >> told.json\'"\nat_most = 1\nwhen = "always"')
    for _ in range(3):
        night(space)
    assert len((space.root / "told.json").read_text().splitlines()) == 1
    (space.root / "told.json").unlink()

    hour = (datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=90)).strftime("%H:%M")
    declared(space, f'url = "exec:sh -c \'cat >> told.json; echo >> told.json\'"\nwhen = "always"\ndigest = "{hour}"')
    for _ in range(3):
        night(space)
    waiting = space.run("tell", "--json").json
    assert not [each for each in waiting["messages"] if each["not_before"] is None]
    assert len(waiting["messages"]) == 3
    space.sql_ledger("UPDATE outbox SET not_before = '2020-01-01T00:00:00+00:00' WHERE not_before IS NOT NULL")
    space.run("tell")
    *_, last = (space.root / "told.json").read_text().splitlines()
    assert len(json.loads(last)["tables"]) == 3


def test_a_rehearsal_says_what_would_go_to_whom_and_why(space: Space) -> None:
    failing(space, 'url = "folder:mails"\nfrom = "n@line.example"\nto = ["a@line.example"]')
    space.run("run", "--day", DAY, "--create", "--no-tell", "d")

    (found,) = space.run("tell", "--rehearse", "--json").json["messages"]

    assert (found["tell"], found["to"], found["why"]) == ("ops", ["a@line.example"], "1 new")
    assert not (space.root / "mails").exists()
    assert "a@line.example" in space.run("tell", "--rehearse").text
    assert "did you mean 'ops'" in space.run("tell", "--test", "opps").text


@pytest.mark.parametrize(("attach", "attached"), [("", True), ("attach = 0", False), ("attach = 1", False)])
def test_rows_that_were_set_aside_are_attached_to_a_mail_masked_and_up_to_a_size(
    space: Space, attach: str, attached: bool
) -> None:
    declared(space, f'url = "folder:mails"\nfrom = "n@line.example"\nto = ["a@line.example"]\n{attach}')
    space.charter(TICKETS.replace("[columns.fare]", "[columns.fare]\nprivate = true").replace('"all"', '"1%"'))
    rows = "".join(f"T{at:03};secret {at};01.06.2026\n" for at in range(60))
    space.tickets(f"ticket_no;fare;sold_on\n{rows}")

    space.run("run", "--day", DAY, "--create")

    (path,) = (space.root / "mails").glob("*.eml")
    message = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
    files = {part.get_filename(): part.get_content() for part in message.iter_attachments()}  # type: ignore[attr-defined]
    assert bool(files) == attached
    for name, text in files.items():
        assert re.fullmatch(r"rejects-\d+\.csv", name)
        assert len(text.splitlines()) == 61
        assert "secret" not in text
    assert message["References"].count("docket-") == 1
    (picture,) = (part for part in message.walk() if part.get_content_type() == "image/png")
    page = message.get_body(("html",)).get_content()  # type: ignore[attr-defined, union-attr]
    assert picture.get_content().startswith(b"\x89PNG")  # type: ignore[attr-defined]
    assert f'src="cid:{picture["Content-ID"].strip("<>")}" alt="tickets, 60 records: 0 ' in page
    assert "0 rolled back, 60 rejected" in page
