"""What a page of requirements can state: planned on a minimal system, carried out, and asked of the real thing."""

import json
import os
import re
from pathlib import Path

import pytest
from debian_root import Root

from fundamentum.catalog.libraries import tables, told_by_php
from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.needs.file import parse
from fundamentum.survey.observe import survey
from fundamentum.survey.service_greeting import here
from tests.sites.cases import RELEASES

from .test_new_site import carried_out, empty_server, fetched, plan

pytestmark = pytest.mark.real
NEEDS = """\
format = 1
[application]
name = "nightlog"
[php]
version = "7.4+"
bits = 64
thread_safe = false
[extensions]
required = ["redis >= 5.0 | apcu", "php-gd", "intl", "curl", "zip >= 1.15", "gmp", "sqlite3", "imagick"]
absent = ["xdebug"]
[extensions.command_line]
required = ["pcntl"]
[libraries]
required = ["icu >= 60", "libcurl >= 7.61", "libxml >= 2.9", "openssl >= 1.1", "sqlite >= 3.30", "libzip >= 1.1"]
[features.required]
gd = ["webp", "freetype"]
[functions]
required = ["exec", "imagewebp", "intl_get_error_code"]
[settings.required]
memory_limit = "300M"
"date.timezone" = "zone"
sendmail_path = "set"
disable_functions = "lacks exec"
[services]
required = ["redis >= 5"]
[database]
required = ["%(product)s"]
[database.settings.required]
%(variables)s
[host.required]
locales = "de_DE.UTF-8"
[tasks.required]
"bin/a.php" = "daily"
"bin/b.php" = "*/10 * * * *"
[web]
document_root = "public"
"""
VARIABLES = {
    "mariadb": 'max_allowed_packet = ">= 64M"\ncharacter_set_server = "= utf8mb4"\nsql_mode = "lacks NO_ZERO_DATE"\n'
    'innodb_file_per_table = "on"\nshared_buffers = ">= 1GB"',
    "postgresql": 'shared_buffers = ">= 160MB"\nwork_mem = "8MB"\nmax_allowed_packet = ">= 64M"\nlock_timeout = "5s"',
}
ASKED = f"""<?php
header('Content-Type: text/plain');
echo json_encode(array(
    {told_by_php()}, ini_get('memory_limit'), ini_get('date.timezone'), extension_loaded('xdebug'),
    function_exists('exec'), setlocale(LC_ALL, 'de_DE.UTF-8'), strftime('%B', 0), PHP_VERSION,
), JSON_PARTIAL_OUTPUT_ON_ERROR);
"""
PRODUCTS = {"bullseye": "mariadb", "bookworm": "mariadb", "trixie": "postgresql"}


@pytest.mark.parametrize("release", RELEASES)
def test_everything_that_a_page_can_state(release: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    if release != "bookworm" and "FUNDAMENTUM_ALL" not in os.environ:
        pytest.skip("set FUNDAMENTUM_ALL=1 to run every combination")
    product = PRODUCTS[release]
    text = NEEDS % {"product": product, "variables": VARIABLES[product]}
    monkeypatch.setattr("tests.real.test_new_site.NEEDS", text)
    branch = RELEASES[release]
    with empty_server(release, f"php{branch}-fpm", "php-xdebug") as root:
        root.write("/srv/nightlog/public/index.php", ASKED)
        for name in ("a", "b"):
            root.write(f"/srv/nightlog/bin/{name}.php", "<?php")
        assert "/etc/php" in root.run("sh", "-c", f"ls /etc/php/{branch}/fpm/conf.d/*xdebug*")
        root.run("service", f"php{branch}-fpm", "start")
        said = carried_out(root, plan(root, tmp_path), "--yes")
        assert "not so" not in said and "so: function:exec" in said
        status, answer = fetched("/index.php")
        assert status == 200, answer
        told, memory, zone, xdebug, runs, locale, month, version = json.loads(answer)
        assert (memory, bool(zone), xdebug, runs, locale) == ("300M", True, False, True, "de_DE.UTF-8")
        assert month == "Januar"
        _agrees(root, text, told, version)
        _database(root, product)
        assert root.run("redis-cli", "ping").strip() == "PONG"
        version = root.run("redis-cli", "info", "server").split("redis_version:")[1].split()[0]
        assert here(["redis"])["greeting:redis"].lines[0] == version
        assert "*/10 * * * *" in (root.path / "etc/cron.d/nightlog").read_text()
        again = carried_out(root, root.path / "root/plan.sh", "--yes")
        assert "restarted" not in again and "nothing changed" in again, again


def _agrees(root: Root, text: str, told: dict[str, str], version: str) -> None:
    """What is known of versions without asking is what PHP itself says."""
    named = ("icu", "libcurl", "libxml", "openssl", "sqlite", "libzip")
    others = [f'"{name} >= 0.1"' for name in tables().libraries if f"library:{name}" in told and name not in named]
    needs = parse(text.replace("[features", f"recommended = [{', '.join(others)}]\n[features"), "f")
    surveyed = survey(DirectoryHost(root.path, "mizar"), asked_by([needs]))
    findings = check(needs, surveyed, "nightlog.example").all_findings
    assert {f.need: f.verdict for f in findings if f.verdict != "met" and f.level == "required"} == {}
    for finding in findings:
        if finding.need.kind == "library":
            (name,) = finding.need.names
            numbers = [re.findall(r"\d+", words)[:2] for words in (told[f"library:{name}"], finding.found or "")]
            assert numbers[0] == numbers[1], finding
        if finding.need.kind == "feature":
            assert told[str(finding.need)] == "1"
        if finding.need == "extension:zip":
            assert told["extension:zip"] in (finding.found or "")
    assert version.startswith(RELEASES[root.path.parent.name.removeprefix("new-site-")])


def _database(root: Root, product: str) -> None:
    """The variables, as the server itself has them."""
    if product == "mariadb":
        query = "SELECT @@max_allowed_packet, @@character_set_server, @@sql_mode, @@innodb_file_per_table"
        packet, characters, mode, per_table = root.run("mariadb", "-N", "-B", "-e", query).strip().split("\t")
        assert (int(packet), characters, per_table) == (64 * 2**20, "utf8mb4", "1")
        assert "NO_ZERO_DATE" not in mode and "STRICT_TRANS_TABLES" in mode
        return
    ask = "SHOW shared_buffers; SHOW work_mem; SHOW lock_timeout"
    said = root.run("su", "postgres", "-s", "/bin/sh", "-c", f'psql -At -c "{ask}"').split()
    assert said == ["160MB", "8MB", "5s"]
