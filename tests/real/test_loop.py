"""The loop closes: check, plan, run the script, check again, and the real PHP agrees."""

import json
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import STORE, Root, base, with_libraries

from .carried_out import fundamentum, state_of
from .running import report, wait_for

pytestmark = pytest.mark.real
NEEDS = Path(__file__).parents[2] / "src/fundamentum/demo/data/nightlog.needs.toml"


FPM = ("--runtime", "8.2/fpm")  # nothing serves the web here


def run_script(root: Root) -> str:
    code, script = fundamentum("plan", str(NEEDS), "--server", str(root.path), *FPM, "--format", "script")
    assert code == 0
    root.write("/root/plan.sh", script)
    return root.run("sh", "/root/plan.sh", "--yes")


@pytest.mark.parametrize("before", [("php8.2-fpm",), ()], ids=["process manager only", "nothing"])
def test_nightlog_on_a_minimal_root(before: tuple[str, ...]) -> None:
    root = with_libraries("bookworm").copy(STORE / "test-loop")
    if before:
        root.install(*before)
    code, text = fundamentum("check", str(NEEDS), "--server", str(root.path), *FPM, "--format", "json")
    findings = {row["need"]: row for row in json.loads(text)["applications"][0]["findings"]}
    assert code == 1
    lacking = {need for need, row in findings.items() if row["verdict"] == "unmet"}
    wanted = {
        "extension:dom",
        "extension:mbstring",
        "extension:pdo_mysql|pdo_pgsql",
        "extension:intl",
        "setting:memory_limit",
        "setting:max_input_vars",
    }
    assert lacking >= wanted
    assert ("php" in lacking) is (not before)

    run_script(root)
    assert fundamentum("check", str(NEEDS), "--server", str(root.path), *FPM)[0] == 0
    after = state_of(root)
    again = root.run("sh", "/root/plan.sh", "--yes")
    assert state_of(root) == after
    assert "all installed" in again
    assert "as wanted" in again

    root.install("libfcgi-bin")
    real = report(root, "8.2", "fpm", "www")
    assert {
        "ctype",
        "dom",
        "json",
        "mbstring",
        "openssl",
        "pdo_mysql",
        "intl",
        "imagick",
        "sodium",
        "Zend OPcache",
    } <= set(real["extensions"])
    wanted_values = {
        "memory_limit": "256M",
        "max_input_vars": "5000",
        "upload_max_filesize": "16M",
        "post_max_size": "20M",
        "opcache.enable": "1",
    }
    assert {name: real["ini"][name] for name in wanted_values} == wanted_values


def test_what_a_pool_sets_is_changed_where_the_pool_decides() -> None:
    root = with_libraries("bookworm").copy(STORE / "test-loop")
    root.install("php8.2-fpm", "libfcgi-bin")
    with (root.path / "etc/php/8.2/fpm/pool.d/www.conf").open("a") as pool:
        pool.write("php_admin_value[memory_limit] = 32M\nphp_value[post_max_size] = 3M\n")
    run_script(root)
    assert fundamentum("check", str(NEEDS), "--server", str(root.path), *FPM)[0] == 0
    real = report(root, "8.2", "fpm", "www")
    assert (real["ini"]["memory_limit"], real["ini"]["post_max_size"], real["ini"]["max_input_vars"]) == (
        "256M",
        "20M",
        "5000",
    )


@pytest.fixture
def running() -> Iterator[Root]:
    """A root in which the process manager runs as its own service script starts it."""
    root = with_libraries("bookworm").copy(STORE / "test-service")
    root.install("php8.2-fpm", "php8.2-xml")
    subprocess.run(["mount", "-t", "proc", "proc", str(root.path / "proc")], check=True)
    try:
        root.run("service", "php8.2-fpm", "start")
        wait_for(root.path / "run/php/php8.2-fpm.sock")
        yield root
    finally:
        root.run("service", "php8.2-fpm", "stop", check=False)
        subprocess.run(["umount", str(root.path / "proc")], check=True)


def test_a_service_that_started_too_early_is_told_apart_and_restarted_once(running: Root) -> None:
    def process() -> str:
        return (running.path / "run/php/php8.2-fpm.pid").read_text()

    first = process()
    running.install("php8.2-mbstring")
    _, text = fundamentum("check", str(NEEDS), "--server", str(running.path), *FPM, "--format", "json")
    states = {row["need"]: row["state"] for row in json.loads(text)["applications"][0]["findings"]}
    seen = [states[f"extension:{name}"] for name in ("dom", "mbstring", "intl")]
    assert seen == ["active", "awaiting-restart", "installable"]
    assert "php8.2-fpm: restarted" in run_script(running)
    second = process()
    assert second != first
    assert fundamentum("check", str(NEEDS), "--server", str(running.path), *FPM)[0] == 0
    assert "nothing changed" in running.run("sh", "/root/plan.sh", "--yes")
    assert process() == second


@pytest.mark.parametrize(("release", "branch"), [("bullseye", "7.4"), ("bookworm", "8.2"), ("trixie", "8.4")])
def test_extensions_lead_to_packages_or_to_none(tmp_path: Path, release: str, branch: str) -> None:
    needs = tmp_path / "traps.needs.toml"
    required = '["dom", "mysqli", "json", "openssl", "sodium"]'
    needs.write_text(f'format = 1\n[application]\nname = "traps"\n[extensions]\nrequired = {required}\n')
    code, text = fundamentum(
        "plan", str(needs), "--server", str(base(release).path), "--runtime", f"{branch}/fpm", "--format", "json"
    )
    packages = json.loads(text)["packages"]
    json_package = [f"php{branch}-json"] if branch == "7.4" else []  # a file of its own before 8.0
    assert packages["install"] == sorted([f"php{branch}-fpm", f"php{branch}-mysql", f"php{branch}-xml", *json_package])
    assert code == 0
    # apt, asked for the same packages, would install exactly these and those that the plan says come along.
    simulated = base(release).run("apt-get", "-s", "install", "--no-install-recommends", *packages["install"])
    chosen = {line.split()[1] for line in simulated.splitlines() if line.startswith("Inst ")}
    assert chosen == {*packages["install"], *packages["along"]}
