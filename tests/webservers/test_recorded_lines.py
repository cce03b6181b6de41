"""Lines of nginx's files as a recorder takes them along: whole ones as they stand, so that a plan may change them."""

import subprocess
from pathlib import Path

import pytest

import fundamentum.webservers.nginx

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
        ("    location /vault { alias /srv/vault; }", "    location /vault { alias /srv/vault;}"),
        ('fastcgi_param PHP_VALUE "a=1\nb=2";', '\nfastcgi_param PHP_VALUE "a=1\\nb=2"; #'),
        ("fastcgi_param HTTP_TOKEN planted;", " fastcgi_param HTTP_TOKEN x;"),
    ],
)
def test_what_is_recorded_of_lines(text: str, recorded: str) -> None:
    program = FILTER.read_text("utf-8") + AROUND
    done = subprocess.run(["awk", program], input=f"{text}\n", capture_output=True, text=True, check=True)
    assert done.stdout == f"{recorded}\n"
