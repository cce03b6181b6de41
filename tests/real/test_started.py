"""How PHP is started decides what it reads: what is said of each way is what the site itself answers."""

import subprocess
import time
from collections.abc import Mapping, Sequence

import pytest
from debian_root import Root

from fundamentum.catalog import canonical
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.recording import open_recording
from fundamentum.survey.observe import survey
from tests.sites.cases import RELEASES, files_of

from .laboratory import asked, running
from .running import recorded, stop
from .test_laboratory import held_against

pytestmark = pytest.mark.real
PORT = 8165
DROP_IN = "/etc/systemd/system/php{branch}-fpm.service.d/x.conf"
FILES = {
    "/o/php.ini": "memory_limit = 71M\nmax_input_vars = 71\n",
    "/named/php-fpm-fcgi.ini": "memory_limit = 72M\n",
    "/named/php.ini": "memory_limit = 73M\n",
    "/s/x.ini": "memory_limit = 74M\npost_max_size = 74M\n",
    "/etc/php/{branch}/fpm/conf.d/99-x.ini": "post_max_size = 75M\n",
}
Start = tuple[Sequence[str], Mapping[str, str]]
STARTS: list[Start] = [  # options, environment
    ((), {}),
    (("-c", "/o"), {}),
    (("-c", "/o/php.ini"), {}),
    (("--php-ini=/named",), {}),
    (("-c", "/nowhere"), {}),
    (("-n",), {}),
    (("-n", "-c", "/o"), {}),
    (("-d", "memory_limit=76M", "-c", "/o"), {}),
    ((), {"PHPRC": "/o"}),
    ((), {"PHPRC": "/o/php.ini"}),
    ((), {"PHPRC": "/named"}),
    ((), {"PHPRC": "/nowhere"}),
    ((), {"PHP_INI_SCAN_DIR": "/s"}),
    ((), {"PHP_INI_SCAN_DIR": ":/s"}),
    ((), {"PHP_INI_SCAN_DIR": "/s:"}),
    ((), {"PHP_INI_SCAN_DIR": ""}),
    (("-c", "/o"), {"PHPRC": "/named", "PHP_INI_SCAN_DIR": "/s"}),
]


def unit(branch: str, options: Sequence[str], environment: Mapping[str, str]) -> str:
    config = f"/etc/php/{branch}/fpm/php-fpm.conf"
    lines = [f'Environment="{name}={value}"' for name, value in environment.items()]
    command = " ".join([f"ExecStart=/usr/sbin/php-fpm{branch} --nodaemonize --fpm-config {config}", *options])
    return "\n".join(["[Service]", *lines, "ExecStart=", command, ""])


WAYS = [
    (release, options, environment)
    for release in RELEASES
    for options, environment in STARTS
    # PHP 7.4 has JSON, in which the site answers, as a file that an ini file of packages loads
    if release != "bullseye"
    or ("-n" not in options and environment.get("PHP_INI_SCAN_DIR", ":") in (":", ":/s", "/s:"))
]


@pytest.mark.parametrize(("release", "options", "environment"), WAYS)
def test_every_setting_is_as_the_site_says(
    release: str, options: Sequence[str], environment: Mapping[str, str]
) -> None:
    branch = RELEASES[release]
    server, files = files_of("fpm: nothing", branch, PORT)
    files = {**files, **FILES, DROP_IN: unit(branch, options, environment)}
    with running(release, files, server, PORT, options, environment) as root:
        surveyed = survey(DirectoryHost(root.path, "laboratory"))
        answer = asked(PORT)
        assert held_against(surveyed, answer) == ([], [])
        if release == "bookworm":
            sent = survey(open_recording(recorded(root, "dash"), "laboratory"))
            assert held_against(sent, answer) == ([], [])
        runtime = next(runtime for runtime in surveyed.runtimes if runtime.sapi == "fpm")
        loaded = {extension.name for extension in runtime.extensions if extension.fault is None}
        assert loaded == {canonical(name.lower()) for name in answer["extensions"]}


def test_apache_with_a_variable_of_its_environment() -> None:
    server, files = files_of("module: nothing", "8.2", PORT)
    with running("bookworm", {**files, **FILES}, server, PORT) as root:
        variables = root.path / "etc/apache2/envvars"
        text = variables.read_text()
        root.run("apache2ctl", "stop")
        time.sleep(1)
        variables.write_text(f"{text}\nexport PHPRC=/o\n")
        root.run("apache2ctl", "start")
        for _ in range(100):
            try:
                answer = asked(PORT)
                break
            except OSError:
                time.sleep(0.05)
        for host in (DirectoryHost(root.path, "x", live=True), open_recording(recorded(root, "dash"), "x")):
            surveyed = survey(host)
            assert held_against(surveyed, answer) == ([], [])
            assert surveyed.processes == "seen"
        variables.write_text(text)  # what runs goes on as it was started
        assert held_against(survey(DirectoryHost(root.path, "x", live=True)), answer) == ([], [])


def test_a_recording_follows_the_directory_that_apache_gives() -> None:
    server, files = files_of("module: another php.ini", "8.2", PORT)
    with running("bookworm", files, server, PORT) as root:
        assert held_against(survey(open_recording(recorded(root, "dash"), "x")), asked(PORT)) == ([], [])


WRAPPER = "#!/bin/sh\n{}exec /usr/bin/php-cgi8.2{}\n"
CGI: list[tuple[str, str]] = [  # where Apache finds the program; the script that stands there, if it is one
    ("/usr/lib/cgi-bin/php8.2", ""),
    ("/usr/lib/cgi-bin/own", WRAPPER.format("", "")),
    ("/usr/lib/cgi-bin/own", WRAPPER.format("PHPRC=/o\nexport PHPRC\n", " -d memory_limit=77M")),
]


@pytest.mark.parametrize(("program", "script"), CGI)
def test_apache_that_runs_a_cgi_program(program: str, script: str) -> None:
    server, files = files_of("module: nothing", "8.2", PORT)
    action = f"Action application/x-httpd-php /cgi-bin/{program.rpartition('/')[2]}\n"
    handler = '<FilesMatch "\\.php$">\nSetHandler application/x-httpd-php\n</FilesMatch>\n'
    alias = 'ScriptAlias /cgi-bin/ /usr/lib/cgi-bin/\n<Directory "/usr/lib/cgi-bin">\nRequire all granted\nOptions +ExecCGI\n</Directory>\n'
    files = {**files, **FILES}
    ini = {"/etc/php/8.2/cgi/conf.d/99-x.ini": "memory_limit = 91M\n", "/srv/a/.user.ini": "max_input_vars = 92\n"}
    with running("bookworm", {**files, **ini}, server, PORT) as root:
        root.run("a2dismod", "-q", "-f", "php8.2")
        root.run("a2enmod", "-q", "actions", "cgi")
        root.write("/etc/apache2/conf-enabled/cgi.conf", f"{alias}{handler}{action}")
        if script:
            root.write(program, script)
            (root.path / program[1:]).chmod(0o755)
        root.run("apache2ctl", "restart")
        time.sleep(1)
        answer, surveyed = asked(PORT), survey(DirectoryHost(root.path, "laboratory", live=True))
        assert answer["ini"]["max_input_vars"] == "92", "a file of the directory, which wins over the command line"
        wrong, unknown = held_against(surveyed, answer)
        assert (wrong, bool(unknown)) == ([], bool(script))
        assert next(site for site in surveyed.sites if site.name == "a").runtime == "8.2/cgi"


SECOND = "/etc/second/php-fpm.conf"
POOL = "[global]\npid = /run/second.pid\n[www]\nuser = www-data\nlisten = /run/php/second.sock\nlisten.owner = www-data\npm = static\npm.max_children = 1\n"


@pytest.mark.parametrize("with_unit", [True, False])
def test_a_second_process_manager_is_judged_by_its_own_files(with_unit: bool) -> None:
    server, files = files_of("fpm: nothing", "8.2", PORT)
    files = {name: text.replace("php8.2-fpm.sock", "second.sock") for name, text in files.items()} | FILES
    files |= {SECOND: POOL}
    options = ["-y", SECOND, "-c", "/o"] if with_unit else ["-y", SECOND]
    if with_unit:
        files["/etc/systemd/system/second.service"] = (
            f"[Service]\nExecStart=/usr/sbin/php-fpm8.2 -F {' '.join(options)}\n"
        )
    with running("bookworm", files, server, PORT) as root:
        second = other_master(root, options)
        try:
            surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
            assert held_against(surveyed, asked(PORT)) == ([], [])
            assert next(site for site in surveyed.sites if site.name == "a").runtime == "8.2/fpm/www@second"
        finally:
            stop(second)


def other_master(root: Root, options: Sequence[str]) -> "subprocess.Popen[bytes]":
    command = ["chroot", str(root.path), "php-fpm8.2", "-F", *options]
    second = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    for _ in range(100):
        if (root.path / "run/php/second.sock").exists():
            return second
        time.sleep(0.05)
    raise TimeoutError("second")
