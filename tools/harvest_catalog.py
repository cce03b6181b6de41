"""Harvest the facts about one PHP branch from a real Debian build of it, into ``catalog/data/php-X.Y.json``.

    sudo python tools/harvest_catalog.py ROOT X.Y [EXTENSION...]

ROOT is a root file system (debootstrap) with phpX.Y-cli, -fpm, -cgi, libapache2-mod-phpX.Y, libfcgi-bin and
every extension package of that branch installed.  PHP is run inside it by chroot; daemons are started on
loopback and ended by process id.
"""

import json
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path
from typing import Any

from fundamentum.php_files.ini import parse

REPORT = "echo json_encode(['ini' => ini_get_all(null, true), 'extensions' => get_loaded_extensions()], JSON_PARTIAL_OUTPUT_ON_ERROR);"
OUTPUT = Path(__file__).parents[1] / "src/fundamentum/catalog/data"


class Build:
    """One PHP branch inside a root file system."""

    def __init__(self, root: Path, branch: str) -> None:
        self.root, self.branch = root, branch
        (root / "tmp/report.php").write_text(f"<?php {REPORT}")
        # json is an extension file of its own before 8.0, and the reports are written with it.
        (root / "tmp/base").mkdir(exist_ok=True)
        (root / "tmp/base/php.ini").write_text("extension=json.so\n" if branch.startswith("7") else "")

    def run(self, *command: str, **environment: str) -> str:
        done = subprocess.run(
            [
                "chroot",
                str(self.root),
                "env",
                "PHP_INI_SCAN_DIR=",
                *(f"{k}={v}" for k, v in environment.items()),
                *command,
            ],
            capture_output=True,
            text=True,
            timeout=120,
        )
        return done.stdout

    def cli(self, *options: str) -> dict[str, Any]:
        text = self.run(
            f"php{self.branch}",
            "-c",
            "/tmp/base",
            "-d",
            "display_startup_errors=0",
            *options,
            "-d",
            "error_log=/dev/null",
            "-r",
            REPORT,
        )
        start = text.find('{"ini"')
        result: dict[str, Any] = json.loads(text[start:]) if start >= 0 else {"ini": {}, "extensions": []}
        for name in ("error_log", "display_startup_errors"):
            result["ini"].pop(name, None)
        return result

    def plain_cli(self) -> dict[str, Any]:
        text = self.run(f"php{self.branch}", "-c", "/tmp/base", "-d", "display_errors=stderr", "-r", REPORT)
        return dict(json.loads(text[text.index('{"ini"') :]))

    def cgi(self) -> dict[str, Any]:
        text = self.run(f"php-cgi{self.branch}", "-c", "/tmp/base", "-q", "/tmp/report.php", REDIRECT_STATUS="1")
        return dict(json.loads(text[text.index('{"ini"') :]))

    def fpm(self) -> dict[str, Any]:
        (self.root / "tmp/fpm.conf").write_text(
            "[global]\nerror_log=/tmp/fpm.log\n[www]\nuser=www-data\nlisten=/tmp/fpm.sock\npm=static\npm.max_children=1\n"
        )
        daemon = subprocess.Popen(
            [
                "chroot",
                str(self.root),
                "env",
                "PHP_INI_SCAN_DIR=",
                f"php-fpm{self.branch}",
                "-c",
                "/tmp/base",
                "-F",
                "-y",
                "/tmp/fpm.conf",
            ]
        )
        try:
            time.sleep(2)
            text = self.run(
                "cgi-fcgi",
                "-bind",
                "-connect",
                "/tmp/fpm.sock",
                REQUEST_METHOD="GET",
                SCRIPT_FILENAME="/tmp/report.php",
            )
        finally:
            daemon.send_signal(signal.SIGTERM)
            daemon.wait(10)
        return dict(json.loads(text[text.index('{"ini"') :]))

    def apache2(self) -> dict[str, Any]:
        module = "php7" if self.branch.startswith("7") else "php"
        loads = "".join(
            f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n"
            for name in ("mpm_prefork", "authz_core", "mime")
        )
        (self.root / "tmp/apache.conf").write_text(
            f"ServerRoot /tmp\nServerName localhost\nListen 127.0.0.1:8099\nPidFile /tmp/apache.pid\nErrorLog /tmp/apache.log\n{loads}"
            f"LoadModule {module}_module /usr/lib/apache2/modules/libphp{self.branch}.so\n"
            "PHPINIDir /tmp/base\nUser www-data\nGroup www-data\nTypesConfig /dev/null\nDocumentRoot /tmp\n"
            "<Directory /tmp>\nRequire all granted\n</Directory>\nAddHandler application/x-httpd-php .php\n"
        )
        daemon = subprocess.Popen(
            ["chroot", str(self.root), "env", "PHP_INI_SCAN_DIR=", "/usr/sbin/apache2", "-X", "-f", "/tmp/apache.conf"]
        )
        try:
            time.sleep(2)
            with urllib.request.urlopen("http://127.0.0.1:8099/report.php", timeout=20) as answer:
                text = answer.read().decode()
        finally:
            daemon.send_signal(signal.SIGTERM)
            daemon.wait(10)
        return dict(json.loads(text))


def values(report: dict[str, Any]) -> dict[str, str]:
    """Directive → value, NULL and the empty string being the same to whoever asks for it."""
    return {name: entry["global_value"] or "" for name, entry in report["ini"].items()}


def load_options(files: list[str], zend: set[str]) -> list[str]:
    return [part for name in files for part in ("-d", f"{'zend_extension' if name in zend else 'extension'}={name}.so")]


def harvest(build: Build) -> dict[str, Any]:
    base = build.cli()
    known = set(base["extensions"])
    directory = build.root / build.run(f"php{build.branch}", "-n", "-r", "echo ini_get('extension_dir');").lstrip("/")
    files = sorted(path.stem for path in directory.glob("*.so"))
    zend = {name for name in files if b"zend_extension_entry" in (directory / f"{name}.so").read_bytes()}

    def loads(name: str, first: list[str]) -> dict[str, Any] | None:
        report = build.cli(*load_options([*first, name], zend))
        before = set(build.cli(*load_options(first, zend))["extensions"]) if first else known
        return report if set(report["extensions"]) - before else None

    alone = [name for name in files if loads(name, [])]
    requires: dict[str, list[str]] = {name: [] for name in alone}
    pending = [name for name in files if name not in requires]
    for _ in range(4):
        for name in list(pending):
            first = list(requires)
            if not loads(name, first):
                continue
            for other in list(first):
                fewer = [x for x in first if x != other and other not in requires[x]]
                if loads(name, fewer):
                    first = fewer
            requires[name] = first
            pending.remove(name)
    print(f"php {build.branch}: {len(requires)} extension files load, failing: {pending or 'none'}")

    if build.branch.startswith("7"):
        requires["json"] = []
        pending.remove("json")
    directives: dict[str, dict[str, Any]] = {}
    extensions: dict[str, dict[str, Any]] = {}
    reports = {"cli": build.plain_cli(), "cgi": build.cgi(), "fpm": build.fpm(), "apache2": build.apache2()}
    static = {
        sapi: sorted(set(report["extensions"]) - ({"json"} if build.branch.startswith("7") else set()), key=str.lower)
        for sapi, report in reports.items()
    }
    web = values(reports["fpm"])
    owners = owner_of_directives(build, [])
    for name, value in web.items():
        directives[name] = {
            "owner": owners.get(name, "core"),
            "access": reports["fpm"]["ini"][name]["access"],
            "default": value,
        }
    for name, first in requires.items():
        if name == "json" and build.branch.startswith("7"):
            extensions[name] = {"shown": "json", "zend": False, "requires": []}
            continue
        extensions[name], brought = describe(build, name, first, zend)
        directives |= brought
    differing = {
        sapi: {name: value for name, value in sorted(values(report).items()) if web.get(name, value) != value}
        for sapi, report in reports.items()
    }
    note_sapis(directives, reports)
    note_refusals(build, directives)
    return {
        "branch": build.branch,
        "constants": json.loads(
            build.run(
                f"php{build.branch}",
                "-c",
                "/tmp/base",
                "-d",
                "error_reporting=0",
                "-r",
                "echo json_encode(array_map('strval', array_filter("
                "get_defined_constants(true)['Core'], function ($k) { return strncmp($k, 'E_', 2) == 0; }, ARRAY_FILTER_USE_KEY)));",
            )
        ),
        "static": static,
        "extensions": extensions,
        "sapi_defaults": {sapi: found for sapi, found in differing.items() if found},
        "forced": {"cli": forced(build, directives)},
        "packaged": packaged(build),
        "directives": dict(sorted(directives.items())),
    }


def describe(build: Build, name: str, first: list[str], zend: set[str]) -> tuple[dict[str, Any], dict[str, Any]]:
    """One extension file: what PHP calls it, and the directives it brings."""
    report, before = build.cli(*load_options([*first, name], zend)), build.cli(*load_options(first, zend))
    shown = sorted(set(report["extensions"]) - set(before["extensions"]))
    mine = owner_of_directives(build, [*first, name], zend)
    brought = {
        directive: {"owner": mine.get(directive, name), "access": report["ini"][directive]["access"], "default": value}
        for directive, value in values(report).items()
        if directive not in values(before) and not value.startswith("This setting has been ")
    }
    return {"shown": shown[0], "zend": name in zend, "requires": list(first)}, brought


def note_sapis(directives: dict[str, Any], reports: dict[str, Any]) -> None:
    """Mark the directives that only some ways of running PHP know."""
    names = {name for report in reports.values() for name in report["ini"]}
    for name in names:
        having = [sapi for sapi, report in reports.items() if name in report["ini"]]
        entry = reports[having[0]]["ini"][name]
        directives.setdefault(
            name, {"owner": "core", "access": entry["access"], "default": entry["global_value"] or ""}
        )
        if len(having) < len(reports):
            directives[name]["sapis"] = having


def owner_of_directives(build: Build, first: list[str], zend: set[str] | None = None) -> dict[str, str]:
    code = "$o = []; foreach (get_loaded_extensions() as $e) foreach (array_keys(@ini_get_all($e) ?: []) as $d) $o[$d] = strtolower($e); echo '{{', json_encode($o);"
    text = build.run(
        f"php{build.branch}",
        "-c",
        "/tmp/base",
        "-d",
        "display_startup_errors=0",
        *load_options(first, zend or set()),
        "-d",
        "error_log=/dev/null",
        "-r",
        code,
    )
    found = json.loads(text[text.index("{{") + 2 :] or "{}")
    return {directive: owner.replace("zend opcache", "opcache") for directive, owner in (found or {}).items()}


def forced(build: Build, directives: dict[str, Any]) -> dict[str, str]:
    """Directives that the command line sets itself, whatever a file says: CGI takes the file's value, it does not."""
    found = {}
    for name in (
        name
        for name, entry in directives.items()
        if entry["owner"] in ("core", "standard") and "cli" in entry.get("sapis", ["cli"])
    ):
        (build.root / "tmp/other.ini").write_text(f"{name} = 7\n")
        code = f"<?php echo 'value=', ini_get('{name}');"
        (build.root / "tmp/one.php").write_text(code)
        cli = build.run(f"php{build.branch}", "-c", "/tmp/other.ini", "/tmp/one.php").rpartition("value=")[2]
        cgi = build.run(
            f"php-cgi{build.branch}", "-c", "/tmp/other.ini", "-q", "/tmp/one.php", REDIRECT_STATUS="1"
        ).rpartition("value=")[2]
        if cgi == "7" and cli != "7":
            found[name] = cli
    return found


def note_refusals(build: Build, directives: dict[str, Any]) -> None:
    """Mark the directives that keep their built-in default where a file sets them to nothing."""
    for name, entry in directives.items():
        if not entry["default"] or "cli" not in entry.get("sapis", ["cli"]):
            continue
        options = ["-d", "display_errors=0", "-d", f"{name}=", "-r", f"echo 'value=', ini_get('{name}');"]
        # With the root's own configuration, so that every extension is loaded.
        done = subprocess.run(
            ["chroot", str(build.root), f"php{build.branch}", *options], capture_output=True, text=True, timeout=60
        )
        if done.stdout.rpartition("value=")[2] == entry["default"]:
            entry["refuses_empty"] = True


def packaged(build: Build) -> dict[str, dict[str, str]]:
    """The settings that a fresh installation's php.ini makes, by way of running PHP."""
    folder = build.root / f"usr/lib/php/{build.branch}"
    found = {}
    for key, name in (("web", "php.ini-production"), ("cli", "php.ini-production.cli")):
        text = (folder / name).read_text()
        found[key] = {
            entry.name: entry.value or ""
            for entry in parse(text, {"E_ALL": "32767", "E_DEPRECATED": "8192", "E_STRICT": "2048"}).entries
        }
    return found


def main() -> None:
    build = Build(Path(sys.argv[1]), sys.argv[2])
    target = OUTPUT / f"php-{sys.argv[2]}.json"
    if added := sys.argv[3:]:  # extensions that cannot be installed together with the others
        data = json.loads(target.read_text())
        for name in added:
            data["extensions"][name], brought = describe(build, name, [], set())
            note_refusals(build, brought)
            data["directives"] = dict(sorted({**data["directives"], **brought}.items()))
    else:
        data = harvest(build)
    target.write_text(json.dumps(data, indent=1, ensure_ascii=False) + "\n")
    print(f"{target.name}: {len(data['directives'])} directives, {len(data['extensions'])} extensions")


if __name__ == "__main__":
    main()
