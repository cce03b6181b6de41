"""How a script takes a service up: under systemd, by its start script, as a bare process; only if something is new."""

import os
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from fundamentum.report.shell_library import functions_for

STAND_IN = '#!/bin/sh\necho "$(basename "$0") $*" >>{log}\n{more}\n'


class Server:
    """A folder that stands for a server: a service's configuration, its pid file, and commands that write down."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.log = folder, folder / "log"
        for name in ("etc", "bin", "kept"):
            (folder / name).mkdir()
        (folder / "etc/a.ini").write_text("")
        self.process = subprocess.Popen(["sleep", "60"])
        self.read_again()

    def read_again(self) -> None:
        """The service has read its files now."""
        time.sleep(0.02)
        (self.folder / "pid").write_text(f"{self.process.pid}\n")

    def command(self, name: str, more: str = "") -> None:
        (self.folder / "bin" / name).write_text(STAND_IN.format(log=self.log, more=more))
        (self.folder / "bin" / name).chmod(0o755)

    def run(self, body: str, systemd: bool = False) -> tuple[int, str, list[str]]:
        """A script with this body; its code, what it said, and the commands that were called."""
        library = "\n".join(functions_for("redhat", [body, "finish"])).replace("/var/backups", f"{self.folder}/kept")
        library = library.replace("/run/fundamentum", f"{self.folder}/lock").replace('"$(id -u)" -eq 0', "1 -eq 1")
        library = library.replace("/run/systemd/system", str(self.folder / ("bin" if systemd else "none")))
        library = library.replace("/etc/php.ini", f"{self.folder}/etc").replace("/etc/php.d", f"{self.folder}/etc")
        text = f"set -eu\nrests_on() {{ :; }}\nplan=x\n{library}\n{body}\nfinish\n"
        (self.folder / "plan.sh").write_text(text)
        self.log.write_text("")
        path = f"{self.folder}/bin:{os.environ['PATH']}"
        done = subprocess.run(
            ["sh", str(self.folder / "plan.sh"), "--yes"], capture_output=True, text=True, timeout=30,
            env={**os.environ, "PATH": path},
        )  # fmt: skip
        return done.returncode, done.stdout + done.stderr, self.log.read_text().splitlines()


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    made = Server(tmp_path)
    made.command("service", "exit 3")
    made.command("test-it")
    yield made
    made.process.kill()
    made.process.wait()


def call(server: Server, verb: str = "restart") -> str:
    return f"{verb}_service php-fpm {server.folder}/pid TERM test-it"


def changed(server: Server) -> None:
    time.sleep(0.02)
    (server.folder / "etc/a.ini").write_text("memory_limit = 1M\n")


def test_what_has_read_all_its_files_is_left_as_it_is(server: Server) -> None:
    code, said, called = server.run(call(server))
    assert (code, called) == (0, []) and "nothing changed, left as it is" in said


def test_systemd_restarts_it_once(server: Server) -> None:
    server.command("systemctl")
    changed(server)
    _, said, called = server.run(call(server), systemd=True)
    assert called == ["test-it ", "systemctl restart php-fpm"] and "php-fpm: restarted" in said
    assert server.run(call(server), systemd=True)[2] == [], "the process is the same, and has read them since"
    (undo,) = (server.folder / "kept/fundamentum").glob("*/undo.sh")
    assert "systemctl restart php-fpm" in undo.read_text()


def test_its_start_script_does_where_it_says_that_it_runs(server: Server) -> None:
    server.command("service")
    changed(server)
    assert server.run(call(server, "reload"))[2] == ["test-it ", "service php-fpm status", "service php-fpm reload"]


def test_a_bare_process_gets_the_signal(server: Server) -> None:
    changed(server)
    _, said, called = server.run(call(server))
    assert called == ["test-it ", "service php-fpm status"] and "restarted" in said
    assert server.process.wait(5) == -15
    (undo,) = (server.folder / "kept/fundamentum").glob("*/undo.sh")
    assert f"kill -TERM $(cat {server.folder}/pid)" in undo.read_text()


def test_what_does_not_run_is_said(server: Server) -> None:
    server.process.kill()
    server.process.wait()
    changed(server)
    code, said, _ = server.run(call(server))
    assert code == 0 and "not running here" in said


def test_a_configuration_that_is_no_good_stops_it(server: Server) -> None:
    server.command("test-it", "exit 1")
    changed(server)
    code, said, called = server.run(call(server))
    assert code == 1 and called == ["test-it "] and "restarted" not in said


def test_a_restart_that_was_cut_off_is_done_again(server: Server) -> None:
    server.command("service", 'case $2 in restart) [ ! -e "$0.cut" ] || kill -KILL $PPID ;; esac')
    (server.folder / "bin/service.cut").write_text("")
    changed(server)
    assert server.run(call(server))[0] == -9
    (server.folder / "bin/service.cut").unlink()
    server.read_again()
    assert server.run(call(server))[2][-1] == "service php-fpm restart"
    assert server.run(call(server))[2] == []


@pytest.mark.parametrize(("state", "calls"), [("enabled", 0), ("disabled", 1), ("masked", 0), ("", 0)])
def test_it_starts_at_boot_where_it_should(server: Server, state: str, calls: int) -> None:
    server.command("systemctl", f"[ $1 != is-enabled ] || echo {state}")
    called = server.run("enable_service php-fpm", systemd=True)[2]
    assert called == ["systemctl is-enabled php-fpm", "systemctl enable php-fpm"][: 1 + calls]
