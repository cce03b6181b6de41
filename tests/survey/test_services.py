"""What services say to whoever has not logged in, and programs to whoever asks for their version."""

import pytest

from fundamentum.catalog.services import Service, services
from fundamentum.model.surrounding_facts import Command
from fundamentum.model.survey import FORMAT, Survey
from fundamentum.model.system import System
from fundamentum.survey import command_versions, service_greeting
from tests.survey.test_greeting import answering

SAID = [  # service, what it says, its version; None: it is none
    ("redis", b"$100\r\nredis_version:7.0.15\r\nredis_mode:standalone\r\n", "7.0.15"),
    ("redis", b"-NOAUTH Authentication required.\r\n", ""),
    ("memcached", b"VERSION 1.6.18\r\n", "1.6.18"),
    ("smtp", b"220 altair.observatory.example ESMTP\r\n", ""),
    ("elasticsearch", b'HTTP/1.0 200 OK\r\n\r\n{"version": {"number": "8.11.1"}}', "8.11.1"),
    ("opensearch", b'HTTP/1.0 200 OK\r\n\r\n{"version": {"distribution": "opensearch", "number": "2.11.0"}}', "2.11.0"),
    ("redis", b"HTTP/1.0 400 Bad Request\r\n\r\n", None),
    ("memcached", b"\xff" * 20_000, None),
]


@pytest.mark.parametrize(("name", "data", "version"), SAID)
def test_greetings(name: str, data: bytes, version: str | None, monkeypatch: pytest.MonkeyPatch) -> None:
    with answering(data) as address:
        known = services()[name]
        there = Service(
            known.title, (), "", (), (int(address.rpartition(":")[2]),), asks=known.asks, answers=known.answers
        )
        monkeypatch.setattr(service_greeting, "services", lambda: {name: there})
        monkeypatch.setattr(service_greeting, "TIMEOUT", 1)
        answer = service_greeting.here([name, "unknown"])[f"greeting:{name}"]
    assert (answer.there, answer.lines[:1]) == ((True, (version,)) if version is not None else (False, ()))


def test_programs_without_a_package_are_asked_for_their_version() -> None:
    commands = (Command("bash", "/bin/bash"), Command("true", "/nowhere/true"), Command("git", "/usr/bin/git", "git"))
    survey = command_versions.with_versions(Survey(FORMAT, "altair", System(), commands=commands))
    assert survey.commands[0].version[:1].isdigit()
    assert [command.version for command in survey.commands[1:]] == ["", ""]
