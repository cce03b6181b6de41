"""Lines of nginx's files as a recorder takes them along: whole ones as they stand, so that a plan may change them."""

import subprocess
from pathlib import Path
from tempfile import TemporaryDirectory

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import fundamentum.webservers.nginx
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.survey import Site, Survey
from fundamentum.survey.observe import survey
from tests.small_root import look, small_root

FILTER = Path(fundamentum.webservers.nginx.__file__).with_name("recorder.awk")
AROUND = """
function scrubbed(line) { return line }
function secret(line) { return 0 }
BEGIN { nginx_begin() }
{ print nginx_filtered($0, "") }
"""


@pytest.mark.parametrize(
    ("text", "recorded"),
    [
        ("    listen 80;", "    listen 80;"),
        ("  # how much\n    client_max_body_size 1m;", "\n    client_max_body_size 1m;"),
        ("   \n\troot /srv/a;\t", "\n\troot /srv/a;\t"),
        ("    root /srv/a; # of nightlog", "    root /srv/a;  #"),
        ("gzip on; listen 80;", " gzip; listen 80; #"),
        ("listen 80; index index.php;", "listen 80; index index.php;"),
        ("    server_name a\n        b;", "\n    server_name a         b; #"),
        ("location ~ x\n{", "\nlocation ~ x { #"),
        ("    location /vault { alias /srv/vault; }", "    location /vault { alias /srv/vault; }"),
        ('fastcgi_param PHP_VALUE "a=1\nb=2";', '\nfastcgi_param PHP_VALUE "a=1\\nb=2"; #'),
        ("    listen 80;\r\n    index a;\r", "    listen 80;  #\n    index a;  #"),
        ("listen 80; index\n    a;", "listen 80; #\n index     a; #"),
        ("fastcgi_param HTTP_TOKEN planted;", " fastcgi_param HTTP_TOKEN x;"),
    ],
)
def test_what_is_recorded_of_lines(text: str, recorded: str) -> None:
    assert filtered(f"{text}\n".encode()) == f"{recorded}\n".encode()


def filtered(text: bytes) -> bytes:
    program = FILTER.read_text("utf-8") + AROUND
    return subprocess.run(["awk", program], input=text, capture_output=True, check=True).stdout


TOKENS = r"""server { listen 80; server_name "a"; root /srv/a; client_max_body_size 1m; add_header X "a; {b} # c";
    location ~ "^/.{1,9}\.php$" { fastcgi_param HTTPS on; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }
    location /b { alias /srv/b/; location ~ \.php$ { fastcgi_pass php; fastcgi_read_timeout 30s; } } }
server { listen 8080; server_name b; index index.php; root '/srv/b'; location ~ \.php$ { fastcgi_pass php; } }"""
WORDS = TOKENS.replace("; {b} # c", "\0").replace(";", " ;").split()
BETWEEN = st.sampled_from([" ", "  ", "\t", "\n", "\n    ", " \n\t", " # c; { }\n", "\n# note\n   ", "\r\n    "])


def seen(conf: bytes) -> Survey:
    with TemporaryDirectory() as folder:
        files: dict[str, str | bytes] = {
            "etc/nginx/nginx.conf": b"http { upstream php { server unix:/run/php/php8.2-fpm.sock; } include a; }"
        }
        return look(
            small_root(
                Path(folder), extra={**files, "etc/nginx/a": conf, "srv/a/index.html": "", "srv/b/index.php": ""}
            )
        )


def facts(site: Site) -> tuple[object, ...]:
    limits = [(limit.name, limit.value) for limit in site.limits]
    return (
        site.name,
        site.root,
        site.part,
        site.runtime,
        site.address,
        [(barrier.why, barrier.remedy, barrier.stops) for barrier in site.barriers],
        limits,
        [layer.unread for layer in site.layers],
    )


@settings(deadline=None, max_examples=40)
@given(
    st.lists(BETWEEN, min_size=len(WORDS), max_size=len(WORDS)),
    st.lists(st.booleans(), min_size=len(WORDS), max_size=len(WORDS)),
)
def test_however_it_is_written_a_recording_tells_the_same(blanks: list[str], close: list[bool]) -> None:
    conf = ""
    for word, blank, stick in zip(WORDS, blanks, close, strict=True):
        conf = (
            (conf.rstrip() if word == ";" and stick and "#" not in conf.rstrip().rpartition("\n")[2] else conf)
            + word.replace("\0", "; {b} # c")
            + blank
        )
    live, sent = seen(conf.encode()), seen(filtered(conf.encode()))
    assert list(map(facts, live.sites)) == list(map(facts, sent.sites))
    lines = conf.split("\n")
    for line, text in spots(msgspec.to_builtins(sent.sites)):
        assert text.endswith("#") or not text or lines[line - 1] == text


def spots(value: object) -> list[tuple[int, str]]:
    """The lines that a plan may change."""
    if isinstance(value, dict):
        mine = [(value["line"], value["text"])] if {"file", "line", "text"} <= value.keys() else []
        return mine + [spot for inner in value.values() for spot in spots(inner)]
    return [spot for inner in value for spot in spots(inner)] if isinstance(value, (list, tuple)) else []


def test_what_a_recording_does_not_hold_is_said(tmp_path: Path) -> None:
    conf = b"http { include /srv/conf/*.conf; include sites/*; server { server_name a; root /srv/a; location ~ \\.php$ "
    conf += b"{ fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }"
    host = DirectoryHost(small_root(tmp_path, extra={"etc/nginx/nginx.conf": conf}), "mizar")
    host.whole = False
    surveyed = survey(host)
    why = "/srv/conf/*.conf is included, and nothing of it is in the recording: sites set up there are unknown"
    assert [remark.why for remark in surveyed.remarks if "included" in remark.why] == [why]
    assert [layer.unread for site in surveyed.sites for layer in site.layers] == [
        "the recording does not hold this document root: what files in it set is unknown"
    ]
