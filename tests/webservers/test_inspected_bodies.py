"""What mod_security lets through; tests/real/test_inspected_bodies.py asks a real server."""

import subprocess
import time
from pathlib import Path

import pytest

import fundamentum.webservers.apache2
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.webservers.nginx.reading import read
from tests.small_root import look, small_root

from .inspected_bodies import CASES, HOST, NGINX, NGINX_CASES, Case


@pytest.mark.parametrize("case", CASES.values(), ids=CASES)
def test_the_sizes_that_a_request_meets(case: Case, tmp_path: Path) -> None:
    server, host, folder, sizes = case
    files: dict[str, str | bytes] = {
        "srv/a/index.php": "<?php",
        "etc/modsecurity/modsecurity.conf": server,
        "etc/apache2/apache2.conf": "IncludeOptional /etc/modsecurity/*.conf\n"
        + HOST.format(port=80, host=host, folder=folder),
    }
    (site,) = look(small_root(tmp_path, extra=files)).sites
    assert [limit.value for limit in site.limits if limit.name == "SecRequestBodyLimit"] == sizes


@pytest.mark.parametrize("case", NGINX_CASES.values(), ids=NGINX_CASES)
def test_the_sizes_that_a_request_meets_in_nginx(case: Case, tmp_path: Path) -> None:
    rules, host, folder, sizes = case
    site = NGINX.format(port=80, host=host, folder=folder).replace("include snippets/fastcgi-php.conf;", "")
    files: dict[str, str | bytes] = {
        "srv/a/index.php": "<?php",
        "etc/nginx/rules.conf": rules,
        "etc/nginx/more.conf": "SecRequestBodyLimit 1000000\n",
        "etc/nginx/nginx.conf": f"events {{}}\nhttp {{\n{site}}}\n",
    }
    (there,) = look(small_root(tmp_path, extra=files)).sites
    assert [limit.value for limit in there.limits if limit.name == "SecRequestBodyLimit"] == sizes


@pytest.mark.parametrize(
    "rules",
    [
        "Include /etc/nginx/*.rules\n" * 3000,
        "SecRequestBodyLimit 9\n" * 150_000,
        "x" * 3_900_000 + "\nSecRuleEngine On",
    ],
)
def test_rules_without_end_take_no_longer_than_others(rules: str, tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "srv/a/index.php": "<?php",
        "etc/nginx/nginx.conf": f"events {{}}\nhttp {{\n{NGINX.format(port=80, host='', folder='')}}}\n",
        "etc/nginx/rules.conf": "Include /etc/nginx/0.rules\n",
        **{f"etc/nginx/{number}.rules": rules if number < 4 else "SecRuleEngine On\n" for number in range(400)},
    }
    begun = time.process_time()
    (site,) = read(DirectoryHost(small_root(tmp_path, extra=files), "x"))[0]
    assert time.process_time() - begun < 10
    assert all(limit.value == "not known" for limit in site.limits if limit.name == "SecRequestBodyLimit")


def test_what_is_said_for_some_requests_alone_leaves_it_open(tmp_path: Path) -> None:
    condition = "<If \"%{REMOTE_ADDR} == '::1'\">\nSecRuleEngine On\nSecRequestBodyAccess On\n</If>\n"
    files: dict[str, str | bytes] = {
        "srv/a/index.php": "<?php",
        "etc/apache2/apache2.conf": HOST.format(port=80, host=condition, folder=""),
    }
    (site,) = look(small_root(tmp_path, extra=files)).sites
    told = [limit.value for limit in site.limits if limit.name == "SecRequestBodyLimit"]
    assert told == ["not the same for all requests"]


FILTER = Path(fundamentum.webservers.apache2.__file__).with_name("recorder.awk")
AROUND = """
function scrubbed(line) { return line }
function secret(line) { return 0 }
function exported(line) { return line }
BEGIN { apache2_begin() }
{ print apache2_filtered($0, "") }
"""


@pytest.mark.parametrize(
    ("text", "recorded"),
    [
        ("SecRuleEngine On\nSecRequestBodyLimit 9", "SecRuleEngine On\nSecRequestBodyLimit 9"),
        ('SecRule ARGS "tok" "id:1,deny"', "secrule noted"),
        ('SecRule ARGS "tok" "id:1,ctl:requestBodyLimit=9"', 'secrule noted "ctl:requestBodyLimit"'),
        (
            'SecAction \\\n"id:1,ctl:ruleEngine=Off,\\\nctl:ruleEngine=On"',
            'secaction noted \\\n\\\n "ctl:ruleEngine=On"',
        ),
    ],
)
def test_of_a_rule_only_what_it_changes_is_recorded(text: str, recorded: str) -> None:
    program = FILTER.read_text("utf-8") + AROUND
    done = subprocess.run(["awk", program], input=text + "\n", capture_output=True, text=True, check=True)
    assert done.stdout == recorded + "\n"
