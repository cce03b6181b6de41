"""Chains of limits: what each link comes to, and which is the narrowest.  tests/real sends real requests."""

from pathlib import Path
from typing import Any

import pytest

from fundamentum.catalog.quantity import span
from fundamentum.check.judge import check
from fundamentum.kinds.limits.limit_chain import with_room
from fundamentum.model.findings import Finding
from fundamentum.model.origin import Origin
from fundamentum.model.packages import Installed
from fundamentum.model.php import Runtime, Setting
from fundamentum.model.surrounding_facts import Limit, Place
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.webservers import names, webserver
from tests.around import NGINX, around_root, look, needs, site

UPLOADS = '[uploads]\nlargest = "50M"\n'
WIDE = "upload_max_filesize = 60M\npost_max_size = 70M\nmemory_limit = 256M\n"
BODY = "client_max_body_size {};\n"
CASES: list[tuple[dict[str, Any], list[str], str]] = [  # server; links that are too narrow; the narrowest
    ({}, ["client_max_body_size", "post_max_size", "upload_max_filesize"], "client_max_body_size"),
    ({"nginx": site(location=BODY.format("60m")), "fpm_ini": WIDE}, ["client_max_body_size"], "client_max_body_size"),
    ({"nginx": site(server=BODY.format("60m")), "fpm_ini": WIDE}, [], ""),
    ({"nginx": site(server=BODY.format("0")), "fpm_ini": WIDE}, [], ""),
    ({"nginx": site(server=BODY.format("50m")), "fpm_ini": WIDE}, ["client_max_body_size"], "client_max_body_size"),
    ({"http": NGINX.replace("include", "client_max_body_size 1g;\n    include"), "fpm_ini": WIDE}, [], ""),
    ({"nginx": site(server=BODY.format("1g"), location=BODY.format("9m")), "fpm_ini": WIDE}, ["client_max_body_size"], "client_max_body_size"),
    ({"nginx": site(server=BODY.format("1g"), front=BODY.format("9m")), "fpm_ini": WIDE}, ["client_max_body_size"], "client_max_body_size"),
    ({"nginx": site(server=BODY.format("0")), "fpm_ini": WIDE + "post_max_size = 0\n"}, [], ""),
    ({"nginx": site(server=BODY.format("0")), "fpm_ini": WIDE + "file_uploads = off\n"}, ["file_uploads"], "file_uploads"),
    ({"nginx": site(server=BODY.format("0")), "fpm_ini": WIDE + "upload_max_filesize = 60\n"}, ["upload_max_filesize"], "upload_max_filesize"),
    ({"nginx": site(server=BODY.format("0")), "fpm_ini": WIDE + "memory_limit = -1\n"}, [], ""),
]  # fmt: skip


def judged(root: Path, tables: str) -> Finding:
    wanted = needs(tables)
    return check(wanted, look(root, wanted)).findings[-1]


def narrow(finding: Finding) -> list[str]:
    return [link.name for link in finding.chain if link.enough is False]


@pytest.mark.parametrize(("server", "names", "least"), CASES)
def test_uploads(tmp_path: Path, server: dict[str, Any], names: list[str], least: str) -> None:
    finding = judged(around_root(tmp_path, **server), UPLOADS)
    assert narrow(finding) == names
    assert finding.verdict == ("unmet" if names else "met")
    assert least in (finding.found or "")
    assert all(link.remedy for link in finding.chain if link.enough is False)
    assert all(link.origin for link in finding.chain)


POOL = "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\n"
TIMES: list[tuple[dict[str, Any], list[str]]] = [
    ({}, ["fastcgi_read_timeout", "max_execution_time", "max_input_time"]),
    ({"fpm_ini": "max_execution_time = 0\nmax_input_time = 0\n", "nginx": site(location="fastcgi_read_timeout 2m;\n")}, []),
    ({"fpm_ini": "max_execution_time = 120\nmax_input_time = 60\n", "nginx": site(server="fastcgi_read_timeout 1h;\n")}, ["max_input_time"]),
    (
        {
            "fpm_ini": "max_execution_time = 120\n",
            "nginx": site(location="fastcgi_read_timeout 1m60s;\n"),
            "extra": {"etc/php/8.2/fpm/pool.d/www.conf": POOL + "request_terminate_timeout = 30s\nrequest_terminate_timeout = 1m\n"},
        },
        ["request_terminate_timeout"],
    ),
]  # fmt: skip


@pytest.mark.parametrize(("server", "names"), TIMES)
def test_long_requests(tmp_path: Path, server: dict[str, Any], names: list[str]) -> None:
    finding = judged(around_root(tmp_path, **server), '[requests]\nlongest = "2m"\n')
    assert sorted(narrow(finding)) == sorted(names)


def test_forms_and_numbers_of_files(tmp_path: Path) -> None:
    root = around_root(
        tmp_path, fpm_ini="max_input_vars = 5000\nmax_multipart_body_parts = 300\nmax_file_uploads = 9\n"
    )
    assert narrow(judged(root, "[forms]\nfields = 4000\n")) == ["max_multipart_body_parts"]
    assert narrow(judged(root, "[uploads]\nfiles = 10\n")) == ["max_file_uploads"]
    assert narrow(judged(root, "[uploads]\nfiles = 9\n")) == []


@pytest.mark.parametrize(
    ("text", "number"),
    [("90", 90), ("5m", 300), ("1h30m", 5400), ("1d", 86400), ("500ms", 0.5), ("0", 0), ("", None), ("soon", None), ("5 m x", None)],
)  # fmt: skip
def test_lengths_of_time(text: str, number: float | None) -> None:
    assert span(text) == number


@pytest.mark.parametrize(
    ("name", "text", "number"),
    [
        ("client_max_body_size", "8M", 8 * 2**20),
        ("client_max_body_size", "0", float("inf")),
        ("client_max_body_size", "$limit", None),
        ("LimitRequestBody", "0", float("inf")),
        ("LimitRequestBody", "102400", 102400),
        ("FcgidMaxRequestLen", "0", 0),
        ("maxAllowedContentLength", "30000000", 30000000),
    ],
)
def test_sizes_as_each_server_writes_them(name: str, text: str, number: float | None) -> None:
    sizes = {key: directive for server in names() for key, directive in webserver(server).sizes.items()}
    assert sizes[name].read(text) == number


def test_there_is_room_for_what_comes_with_a_file() -> None:
    assert [with_room(n * 2**20) // 2**20 for n in (1, 2, 50, 200, 1024)] == [2, 3, 52, 208, 1065]


def on(server: Any, limits: tuple[Limit, ...], version: str = "", free: int | None = None, **more: Any) -> Finding:
    """The finding for 50 MB behind a made-up web server, PHP itself being wide enough."""
    settings = {name: Setting(value) for name, value in (("post_max_size", "0"), ("upload_max_filesize", "90M"))}
    runtime = Runtime("8.2", "cgi" if server == "iis" else "fpm", "8.2.1", serves=True, settings=settings)
    survey = Survey(
        1,
        "vega",
        System(family="debian"),
        runtimes=(runtime,),
        installed=(Installed("apache2-bin", version),) if version else None,
        sites=(Site("nightlog", server, Origin("/etc/x", 1), runtime=runtime.label, limits=limits, **more),),
        places=(Place("/tmp", "directory", free=free),),
    )
    return check(needs(UPLOADS), survey).findings[-1]


@pytest.mark.parametrize(
    ("server", "limit", "version", "verdict"),
    [
        ("apache2", Limit("LimitRequestBody", ""), "2.4.52-1", "met"),
        ("apache2", Limit("LimitRequestBody", ""), "2.4.62-1~deb12u2", "met"),
        ("apache2", Limit("LimitRequestBody", "1000"), "2.4.62-1", "unmet"),
        ("apache2", Limit("FcgidMaxRequestLen", "131072"), "", "unmet"),
        ("iis", Limit("maxAllowedContentLength", "30000000"), "", "unmet"),
        ("iis", Limit("maxAllowedContentLength", "90000000"), "", "met"),
        ("nginx", Limit("client_max_body_size", "$size", Origin("/etc/x", 3)), "", "unknown"),
    ],
)
def test_other_web_servers(server: str, limit: Limit, version: str, verdict: str) -> None:
    assert on(server, (limit,), version).verdict == verdict


def test_a_disk_that_is_too_full_is_a_link_too() -> None:
    limit = (Limit("client_max_body_size", "0"),)
    assert on("nginx", limit, free=2**30).verdict == "met"
    full = on("nginx", limit, free=2**20)
    assert (full.verdict, narrow(full)) == ("unmet", ["/tmp"])
    assert "make room in /tmp" in (full.remedy or "")
    assert "not known" in (on("nginx", limit).remark or "")
