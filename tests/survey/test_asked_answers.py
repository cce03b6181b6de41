"""Texts, sockets and variables that needs ask about, on this machine and in a directory."""

import socket
from pathlib import Path

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.processes import Process
from fundamentum.model.surrounding_facts import Answer, Asked
from fundamentum.survey.probes.asked_answers import probe


def test_what_listens_on_a_running_machine_is_seen(tmp_path: Path) -> None:
    with socket.socket(socket.AF_UNIX) as path, socket.socket() as port, socket.socket() as idle:
        path.bind(str(tmp_path / "x.sock"))
        path.listen()
        port.bind(("127.0.0.1", 0))
        port.listen()
        idle.bind(("127.0.0.1", 0))
        places = (
            f"{tmp_path}/x.sock",
            f"127.0.0.1:{port.getsockname()[1]}",
            f"{tmp_path}/y.sock",
            str(idle.getsockname()[1]),
        )
        live = probe(DirectoryHost(Path("/"), "x", live=True), Asked(sockets=places), ())
        image = probe(DirectoryHost(tmp_path, "x"), Asked(sockets=places), ())
    assert [live[f"socket:{place}"].there for place in places] == [True, True, False, False]
    assert {answer.there for answer in image.values()} == {None}, "an image does not tell what runs"


def test_texts_are_read_within_bounds_and_without_passwords(tmp_path: Path) -> None:
    (tmp_path / "etc").mkdir()
    (tmp_path / "etc/a.conf").write_text("one\tx\npassword=hunter2\nurl=http://u:hunter2@h/\n\x1b[1m\n" + "y\n" * 600)
    (tmp_path / "etc/long").write_text("x" * 70_000)
    paths = ("/etc/a.conf", "/etc/long", "/etc/absent", "/proc/swaps", "/srv/own", "/etc/../srv/own", "/etc")
    answers = probe(DirectoryHost(tmp_path, "x"), Asked(texts=paths), ())
    lines = answers["text:/etc/a.conf"].lines
    assert lines[0].split() == ["one", "x"] and len(lines) == 499 and "hunter2" not in "".join(lines)
    assert all(line.isprintable() for line in lines)
    assert {path: answers[f"text:{path}"].there for path in paths[1:]} == {
        "/etc/long": None, "/etc/absent": False, "/proc/swaps": None, "/srv/own": None, "/etc/../srv/own": None, "/etc": None,
    }  # fmt: skip


def test_variables_are_those_of_what_runs() -> None:
    host = DirectoryHost(Path("/nowhere"), "x")
    seen = (
        Process("php-fpm", 1.0, variables=None),
        Process("apache", 1.0, variables=(("A", "1"), ("DB_PASSWORD", "x"))),
    )
    asked = Asked(variables=("A", "B", "DB_PASSWORD"))
    assert probe(host, asked, seen) == {
        "variable:A": Answer(True, ("1",)), "variable:B": Answer(False), "variable:DB_PASSWORD": Answer(None),
    }  # fmt: skip
    assert probe(host, asked, seen[:1])["variable:A"] == Answer(None)
    assert probe(host, Asked(), seen) == {}
