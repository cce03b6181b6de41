"""What serves which site, what runs now, and ways to reach a server: on real daemons, confirmed by asking them."""

import json
import re
import subprocess
import sys
import time
from pathlib import Path

import pytest
from debian_root import Root
from msgspec.structs import replace

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.model.php import Runtime
from fundamentum.model.surrounding_facts import Asked
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers
from fundamentum.survey.observe import survey
from fundamentum.survey.pool_answers import ask_pools
from fundamentum.survey.survey_file import written

from .running import recorded, start_fpm, stop
from .twin import APACHE, NGINX, PLANTED, page, sshd

pytestmark = pytest.mark.real
PROGRAM = Path(sys.executable).with_name("fundamentum")
SHELLS = (("dash",), ("bash",), ("busybox", "sh"))


ASKED = Asked(
    directories=("/srv/nightlog", "/srv/linked/plates", "var/cache", "/srv/absent/far", "bin/fetch.php"),
    commands=("grep", "git", "nginx", "convert", "mail", "unzip"),
    packages=("mariadb-server", "postgresql"),
    tasks=("bin/fetch.php",),
    texts=("/etc/debian_version", "/etc/absent", "/usr/share/doc"),
)


def look(root: Root, asked: Asked | None = None) -> Survey:
    return survey(DirectoryHost(root.path, "twin"), asked)


def still(surveyed: Survey) -> Survey:
    """Without what only a running machine tells, and changes every moment; and without lines that are commented out,
    which a recording leaves out since they may hold anything."""
    places = tuple(replace(place, free=None) for place in surveyed.places)
    runtimes = tuple(replace(runtime, started=runtime.started and 1.0, commented={}) for runtime in surveyed.runtimes)
    servers = tuple(
        replace(server_process, started=server_process.started and 1.0) for server_process in surveyed.servers
    )
    repositories = tuple(replace(repository, fetched=None) for repository in surveyed.repositories)
    marks = dict.fromkeys(surveyed.marks, "")  # by time in a recording, by content on the server
    surveyed = replace(surveyed, runtimes=runtimes, servers=servers, repositories=repositories, marks=marks)
    return replace(
        surveyed,
        server="",
        taken=None,
        places=places,
        machine=replace(surveyed.machine, memory=None, swap=None, processors=None),
    )


def runtime(surveyed: Survey, label: str) -> Runtime:
    return next(listed for listed in surveyed.runtimes if listed.label == label)


def fundamentum(*arguments: str, **environment: dict[str, str]) -> "subprocess.CompletedProcess[str]":
    return subprocess.run([PROGRAM, *arguments], capture_output=True, text=True, timeout=120, **environment)  # type: ignore[call-overload, no-any-return]


def test_every_site_is_served_by_the_runtime_that_is_named(twin: Root) -> None:
    surveyed = look(twin)
    sites = {(site.server, site.name.partition(".")[0]): site.runtime or "" for site in surveyed.sites}
    assert len(sites) == len(surveyed.sites) == 5
    for (server, name), label in sites.items():
        version, sapi, _ = page(NGINX if server == "nginx" else APACHE, name).split("|")
        branch, way = label.split("/")[:2]
        assert (version.startswith(branch), sapi) == (True, {"fpm": "fpm-fcgi", "apache2": "apache2handler"}[way])
    assert {r.label for r in surveyed.runtimes if r.serves} == {"8.2/fpm/www", "8.4/fpm/www", "8.2/apache2"}
    assert [r.label for r in surveyed.runtimes if r.plain] == ["8.4/cli"]


@pytest.mark.parametrize("shell", SHELLS, ids=" ".join)
def test_a_recording_gives_the_survey_of_a_live_read(twin: Root, shell: tuple[str, ...]) -> None:
    for asked in (None, ASKED):
        from_recording = survey(open_recording(recorded(twin, *shell, asked=asked), "recording"), asked)
        assert bool(from_recording.machine.memory) and bool(from_recording.machine.processors)
        assert asked is None or any(place.free for place in from_recording.places)
        live = look(twin, asked)
        assert all(r.started for r in live.runtimes if r.sapi in ("fpm", "apache2")), "the running servers are seen"
        for field in Survey.__struct_fields__:
            assert getattr(still(from_recording), field) == getattr(still(live), field), field
    assert {command.name: (command.path, command.package) for command in live.commands} == {
        "grep": ("/usr/bin/grep", "grep"),
        "git": (None, None),
        "nginx": ("/usr/sbin/nginx", "nginx"),
        "convert": (None, None),
        "mail": ("/usr/local/bin/mail", None),
        "unzip": (None, None),
    }
    assert [(task.user, task.every) for task in live.tasks] == [("www-data", 600), ("root", 3600)]
    assert any(place.grants for place in live.places)
    assert {exposed.kind for exposed in live.exposed} == {
        "world-writable",
        "information-page",
        "installer",
        "not-for-visitors",
    }


def test_no_secret_gets_out(twin: Root, tmp_path: Path) -> None:
    archive = recorded(twin, "dash", asked=ASKED)
    (tmp_path / "recording.tar").write_bytes(archive)
    subprocess.run(["tar", "-xzf", "recording.tar"], cwd=tmp_path, check=True)
    leaks = [path for path in tmp_path.rglob("*") if path.is_file() and PLANTED.encode() in path.read_bytes()]
    assert not leaks
    asked = ask_pools(look(twin), twin.path)
    assert runtime(asked, "8.2/fpm/www").answer
    assert PLANTED not in written(asked).decode()
    assert "(withheld)" in written(asked).decode()
    shown = fundamentum("survey", str(twin.path), "--ask-pools")
    assert PLANTED not in shown.stdout + shown.stderr


def test_over_ssh(twin: Root, tmp_path: Path) -> None:
    with sshd(twin, tmp_path) as environment:
        reference = f"ssh://root@127.0.0.1:{environment['SSHD_PORT']}"
        done = fundamentum("survey", reference, "-o", "-", env=environment)
        assert done.returncode == 0, done.stderr
        found, live = json.loads(done.stdout), json.loads(written(look(twin)))
        same = {"server": "", "machine": 0, "taken": 0}
        for one in (*found["runtimes"], *live["runtimes"], *found["servers"], *live["servers"]):
            one["started"] = one.get("started") is not None  # known to a hundredth of a second
            one.pop("commented", None)
        for one in (*found["repositories"], *live["repositories"]):
            one.pop("fetched", None)
        found["marks"], live["marks"] = sorted(found["marks"]), sorted(live["marks"])
        for field in {**live, **found}:
            assert {**found, **same}.get(field) == {**live, **same}.get(field), field
        assert not list((twin.path / "tmp").glob("fundamentum*")), "nothing is left there"
        logins = (tmp_path / "log").read_text().count("Accepted publickey")
        assert logins == 1, "one connection"
        for arguments, change, words in (
            ((reference,), {"KEY": str(tmp_path / "stranger")}, "refuses the login"),
            (("ssh://root@127.0.0.1:1",), {}, "cannot be reached"),
            ((reference, "--sudo"), {}, "sudo is refused there"),
        ):
            done = fundamentum("survey", *arguments, env={**environment, **change})
            assert done.returncode == 2
            assert words in done.stderr
            assert done.stderr.count("\n") == 1


def test_what_the_running_pool_has_is_told_from_what_its_files_say(twin: Root, tmp_path: Path) -> None:
    needs = tmp_path / "nightlog.needs.toml"
    needs.write_text(
        'format = 1\n[application]\nname = "nightlog"\n[extensions]\nrequired = ["mbstring", "ctype"]\n'
        '[settings.required]\nmemory_limit = ">= 256M"\n'
    )

    def states(*more: str) -> dict[str, str]:
        arguments = (
            "check",
            str(needs),
            "--server",
            str(twin.path),
            "--runtime",
            "log.observatory.example",
            "--format",
        )
        done = fundamentum(*arguments, "json", *more)
        rows = json.loads(done.stdout)["applications"][0]["findings"]
        return {row["need"].partition(":")[2]: row["state"] or row["verdict"] for row in rows if row["need"] != "php"}

    assert states() == {"mbstring": "installable", "ctype": "active", "memory_limit": "unmet"}
    time.sleep(1.1)  # a start is known to the second
    twin.install("php8.2-mbstring")
    twin.write("/etc/php/8.2/fpm/conf.d/90-nightlog.ini", "memory_limit = 300M\n")
    due = {"mbstring": "awaiting-restart", "ctype": "active", "memory_limit": "awaiting-restart"}
    assert states() == due
    assert states("--ask-pools") == due
    assert page(NGINX, "nightlog").endswith("|128M"), "the running pool has not read it"
    assert not list((twin.path / "run").glob("fundamentum*"))
    second = Path(twin.path / "run/php/php8.2-fpm.pid")
    subprocess.run(["kill", second.read_text()], check=True)
    time.sleep(1.5)
    daemon = start_fpm(twin, "8.2")
    try:
        for _ in range(50):
            if second.exists():
                break
            time.sleep(0.1)
        time.sleep(0.5)
        fine = {"mbstring": "active", "ctype": "active", "memory_limit": "met"}
        assert states() == fine
        assert states("--ask-pools") == fine
        assert page(NGINX, "nightlog").endswith("|300M")
    finally:
        stop(daemon)


PREFERENCES = [
    "",
    "Package: *\nPin: release n=trixie\nPin-Priority: 900\n",
    "Package: php8.2-gd php8.4-*\nPin: release n=bookworm\nPin-Priority: -1\n\nPackage: php8.4-intl\nPin: version 8.4*\nPin-Priority: 700\n",
    "Package: /^php8\\.2-x/ libxml2\nPin: release a=stable\nPin-Priority: 990\n\nPackage: *\nPin: release o=Debian,n=bookworm\nPin-Priority: 650\n",
    "Package: php*\nPin: release l=Debian, c=main\nPin-Priority: 321\n",
]


@pytest.mark.parametrize("preferences", PREFERENCES)
def test_what_is_preferred_is_what_apt_prefers(twin: Root, preferences: str) -> None:
    twin.write("/etc/apt/preferences.d/zz-test", preferences)
    surveyed = look(twin)
    offers = Offers(surveyed)
    present = {package.name for package in surveyed.installed or ()}
    names = sorted(
        {offer.name for offer in surveyed.offers or () if offer.name.startswith(("php", "libxml"))} - present
    )
    blocks = re.split(r"\n(?=\S)", twin.run("apt-cache", "policy", *names))
    assert len(blocks) == len(names) > 100
    for block in blocks:
        name = block.partition(":")[0]
        chosen = offers.package(name)
        assert f"Candidate: {chosen.version if chosen else '(none)'}" in block
        priorities = dict(re.findall(r"^     (\S+) (-?\d+)$", block, re.M))
        mine = {offer.version: str(offer.priority) for offer in surveyed.offers or () if offer.name == name}
        assert mine == priorities
    twin.write("/etc/apt/preferences.d/zz-test", "")
    assert [package.name for package in surveyed.installed or () if package.held] == ["php-common"]
    assert {(repository.label, repository.codename) for repository in surveyed.repositories} == {
        ("Debian", "bookworm"),
        ("Debian", "trixie"),
    }
