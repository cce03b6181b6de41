"""Asking running sites: what is asked, what is not, and where an answer differs from the files."""

import json
import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from msgspec.structs import replace

from fundamentum.model.layers import Layer
from fundamentum.model.origin import Origin
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.survey.site_answers import ask_sites

ANSWERS: list[dict[str, str]] = []


class Handler(BaseHTTPRequestHandler):
    """A site: each request is answered with the next answer, the last one again and again."""

    def do_GET(self) -> None:
        said = ANSWERS.pop(0) if len(ANSWERS) > 1 else ANSWERS[0]
        assert self.headers["Host"] == "nightlog" and self.path.startswith("/fundamentum-")
        body = b"ANSWER" + json.dumps([["gd"], said, {}]).encode()
        self.send_response(200)
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *args: object) -> None:
        pass


@pytest.fixture
def port() -> Iterator[int]:
    with ThreadingHTTPServer(("127.0.0.1", 0), Handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield server.server_address[1]
        server.shutdown()


def server(port: int, **site: object) -> Survey:
    runtime = Runtime(
        "8.2", "apache2", "8.2.9", serves=True, settings={"memory_limit": Setting("64M", Origin("/etc/p.ini", 1))}
    )
    found = Site("nightlog", "apache2", Origin("/etc/a", 1), root="/srv/a", runtime="8.2/apache2", address=f"*:{port}")
    return Survey(4, "mizar", System(), runtimes=(runtime,), sites=(replace(found, **site),))


def asked(tmp_path: Path, survey: Survey, *answers: dict[str, str]) -> tuple[dict[str, str] | None, str]:
    (tmp_path / "srv/a").mkdir(parents=True, exist_ok=True)
    ANSWERS[:] = answers or [{"memory_limit": "64M"}]
    surveyed = ask_sites(survey, tmp_path, with_file=True)
    assert list((tmp_path / "srv/a").iterdir()) == [], "the file is gone again"
    answer = surveyed.sites[0].answer
    return answer.settings if answer else None, "; ".join(remark.why for remark in surveyed.remarks)


def test_a_site_is_asked_several_times_and_what_differs_is_left_out(tmp_path: Path, port: int) -> None:
    settings, said = asked(tmp_path, server(port), {"memory_limit": "64M", "x": "1"}, {"memory_limit": "64M", "x": "2"})
    assert (settings, said) == ({"memory_limit": "64M"}, "")
    settings, said = asked(tmp_path, server(port), {"memory_limit": "99M"})
    assert settings == {"memory_limit": "99M"} and "memory_limit is 99M in the running site" in said


@pytest.mark.parametrize(
    ("site", "words"),
    [
        ({"address": "10.0.0.1:80"}, "only plain HTTP of this machine"),
        ({"secure": True}, "only plain HTTP of this machine"),
        ({"root": None}, "document root is not known"),
        ({"root": "/srv/gone"}, "could not be asked"),
        ({"layers": (Layer("request", unread="a variable"),)}, "depends on each of them"),
        ({"layers": (Layer("user-ini", origin=Origin("/else/.user.ini", 1), unread="x"),)}, "of other directories"),
    ],
)
def test_what_cannot_be_asked_is_said(tmp_path: Path, port: int, site: dict[str, object], words: str) -> None:
    settings, said = asked(tmp_path, server(port, **site))
    assert settings is None and words in said
