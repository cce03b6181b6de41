"""Text that breaks its type is refused with its place, or made harmless once; what was odd is no traceback."""

import copy
import itertools
import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import pytest

from fundamentum.errors import InputError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import read, written
from fundamentum.untrusted.secrets import without_credentials, without_secrets
from tests.around import NGINX, around_root, look, needs, site
from tests.examples import WHOLE
from tests.hostile.attacks import DATA, SURVEYS
from tests.hostile.mutations import at, places
from tests.hostile.program import PROGRAM, run
from tests.small_root import small_root

CONTROLS = ("\n", "\0", "\x1b", "\x7f", "\x9b", "\u202e", "\u2028")
NIGHTLOG = DATA / "nightlog.needs.toml"


def test_no_field_of_a_survey_takes_a_control_character() -> None:
    document = next(one for one in SURVEYS if one["sites"])
    texts = [place for place in places(document) if isinstance(at(document, place), str)]
    seen: set[tuple[str, ...]] = set()
    for number, place in enumerate(texts):
        kind = tuple(
            str(part) for part in place if not isinstance(part, int) and part not in document["runtimes"][0]["settings"]
        )
        if kind in seen:
            continue
        seen.add(kind)
        changed = copy.deepcopy(document)
        holder = at(changed, place[:-1])
        holder[place[-1]] += CONTROLS[number % len(CONTROLS)]
        with pytest.raises(InputError, match=r"not a survey of this program: .* at `\$"):
            read(json.dumps(changed).encode(), "x")
    assert len(seen) > 50


@pytest.mark.parametrize("control", CONTROLS)
def test_a_server_cannot_put_one_into_its_survey(tmp_path: Path, control: str) -> None:
    text = f"a{control}b".replace("\0", "\1")
    root = around_root(
        tmp_path,
        nginx=site().replace("nightlog.observatory", f'"n{text}"'),
        fpm_ini=f'user_agent = "{text}"\n',
        extra={
            "etc/hostname": f"mi{text}zar\n", "etc/os-release": f'ID=debian\nPRETTY_NAME="Debian {text}"\n',
            "etc/php/8.2/fpm/pool.d/odd.conf": f'[odd]\nuser = "{text}"\nlisten = "/run/{text}"\n',
            f"etc/php/8.2/fpm/conf.d/30 {text}.ini": "memory_limit = 300M\n",
        },
    )  # fmt: skip
    surveyed = survey(DirectoryHost(root, "x"))
    assert read(written(surveyed), "x") == surveyed
    assert not any(c in written(surveyed).decode() for c in ("\x1b", "\x7f", "\x9b", "\u202e", "\u2028"))
    assert [runtime.pool for runtime in surveyed.runtimes] == ["www"], "the other has a user that no system has"
    done = run("plan", NIGHTLOG, "--server", root, "--runtime", "8.2", "--format", "script")
    assert not any(control in done.out for control in CONTROLS if control != "\n")


def test_what_goes_out_steers_nothing(tmp_path: Path) -> None:
    (tmp_path / "a\x1b[2J\u202e.php").write_text("<?php imagecreate(1, 1); \\curl_init();")
    (tmp_path / "composer.json").write_text(
        '{"name": "x/y\u202e\u009b", "version": "1\u001b[2J", "suggest": {"ext-intl": "\u202eabc\u0007"}}'
    )
    runs: tuple[list[str | Path], ...] = (
        ["derive", tmp_path, "-o", "-"],
        ["derive", tmp_path],
        ["check", tmp_path, "--server", DATA / "vega.survey.json", "--format", "json"],
    )
    for words in runs:
        done = run(*words)
        assert all(c.isprintable() or c == "\n" for c in done.out + done.err)


SECRET = "gehe1m-und-tief"
LEAKS = {
    "a mailer's password": {"fpm_ini": f"sendmail_path = /usr/bin/msmtp -t --password {SECRET} -a observatory\n"},
    "one in quotes": {"fpm_ini": f"session.save_path = \"tcp://127.0.0.1:6379?auth='{SECRET} x'\"\n"},
    "beside a limit": {
        "nginx": site(location=f'        client_max_body_size 1m; fastcgi_param DB_PASSWORD "{SECRET} x";\n')
    },
    "in a comment beside it": {"nginx": site(server=f"    client_max_body_size 1m; # password {SECRET}\n")},
}


@pytest.mark.parametrize("case", LEAKS)
def test_secrets_stay_where_they_are(tmp_path: Path, case: str) -> None:
    wanted = needs('[uploads]\nlargest = "50M"\n')
    root = around_root(tmp_path, http=NGINX, **LEAKS[case])  # type: ignore[arg-type]
    assert SECRET.encode() not in written(look(root, wanted))
    (tmp_path / "x.needs.toml").write_text('format = 1\n[application]\nname = "x"\n[uploads]\nlargest = "50M"\n')
    runs: tuple[list[str | Path], ...] = (
        ["survey", root, "-o", "-"],
        ["plan", tmp_path / "x.needs.toml", "--server", root, "--format", "json"],
        ["trace", "sendmail_path", "--server", root],
    )
    for words in runs:
        done = run(*words)
        assert SECRET not in done.out + done.err


@pytest.mark.parametrize(
    "address",
    [f"ida:{SECRET}@db", f"mysql://ida:{SECRET}@db/x", f"db:3306/{SECRET}", f"db;password={SECRET}", f"db:{SECRET}"],
)
def test_a_password_in_an_address_is_not_repeated(address: str) -> None:
    done = run("check", NIGHTLOG, "--server", DATA / "altair.survey.json", "--database", address)
    assert done.code == 2 and SECRET not in done.err


@pytest.mark.parametrize(
    ("text", "kept"),
    [("--password WORD", False), ("--password=WORD", False), ('password="a WORD"', False), ("x://u:WORD@h", False), ("auth[a]=WORD", False),
     ("author = WORD", True), ("a password WORD", True)],
)  # fmt: skip
def test_credentials_in_text(text: str, kept: bool) -> None:
    assert ("WORD" in without_credentials(text)) is kept


@pytest.mark.parametrize(
    ("command", "shown"),
    [
        ("/usr/sbin/sendmail -t -i", "/usr/sbin/sendmail -t -i"),
        ("/usr/bin/x -apWORD", "/usr/bin/x (withheld)"),
        ("", ""),
    ],
)
def test_the_command_that_sends_mail(command: str, shown: str) -> None:
    assert without_secrets("sendmail_path", command) == shown


# --- Odd surroundings of the program itself.


def test_a_fault_of_the_program_is_said_in_one_line(tmp_path: Path) -> None:
    breaking = "import fundamentum.check.judge as j\ndef f(*a): raise KeyError('geheim')\nj.judge = f\nfrom fundamentum.cli.main import program\nprogram()\n"
    words = [sys.executable, "-c", breaking, "check", str(NIGHTLOG), "--server", str(DATA / "altair.survey.json")]
    plain = subprocess.run(words, capture_output=True, text=True, check=False)
    assert (plain.returncode, plain.stdout, plain.stderr.count("\n")) == (3, "", 1)
    assert "KeyError" in plain.stderr and "--debug" in plain.stderr and "geheim" not in plain.stderr
    for order in ([*words, "--debug"], [*words[:3], "--debug", *words[3:]]):
        told = subprocess.run(order, capture_output=True, text=True, check=False)
        assert told.returncode == 3 and "Traceback" in told.stderr


ENVIRONMENTS = {
    "no locale": {"LC_ALL": "C", "LANG": ""},
    "no home": {"HOME": "", "XDG_CACHE_HOME": ""},
    "an odd home": {"HOME": "/dev/null", "XDG_CACHE_HOME": "x"},
}


@pytest.mark.parametrize("case", ENVIRONMENTS)
def test_odd_environments(tmp_path: Path, case: str) -> None:
    assert run("derive", DATA / "platevault", environment=ENVIRONMENTS[case], cwd=tmp_path).code == 0
    assert (
        run(
            "check", NIGHTLOG, "--server", DATA / "altair.survey.json", environment=ENVIRONMENTS[case], cwd=tmp_path
        ).code
        == 0
    )


def test_closed_standard_streams(tmp_path: Path) -> None:
    quiet = f"{PROGRAM} check {NIGHTLOG} --server {DATA / 'vega.survey.json'}"
    for closed in ("<&-", ">&-", "2>&-", "<&- >&- 2>&-"):
        done = subprocess.run(["sh", "-c", f"{quiet} {closed}"], capture_output=True, text=True, check=False)
        assert done.returncode == 1 and "Traceback" not in done.stderr


AS_NOBODY = """
import os, sys
from fundamentum.cli.main import main, program
main(sys.argv[1:])  # once as root, for what is read of the program itself
os.environ.clear()
os.setgroups([]); os.setgid(54321); os.setuid(54321); os.chdir("/")
program()
"""


@pytest.mark.skipif(os.geteuid() != 0, reason="needs root to be somebody else")
def test_nobody_without_a_home_and_without_permission(tmp_path: Path) -> None:
    root = small_root(tmp_path / "root")
    shared = Path(tempfile.gettempdir())  # which is everybody's, and stays so
    for folder in itertools.takewhile(lambda file: file != shared, (tmp_path, *tmp_path.parents)):
        folder.chmod(0o755)
    for path in ("etc/php/8.2/fpm/php.ini", "var/lib/dpkg/status", "etc/php/8.2/fpm/pool.d"):
        (root / path).chmod(0)
    (tmp_path / "x.needs.toml").write_bytes(NIGHTLOG.read_bytes())
    command = [
        sys.executable,
        "-c",
        AS_NOBODY,
        "check",
        f"{tmp_path}/x.needs.toml",
        "--server",
        str(root),
        "--runtime",
        "8.2",
    ]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode in (1, 2) and "Traceback" not in done.stderr, done.stderr
    assert "Permission denied" in done.stderr
    (tmp_path / "index.php").write_text("<?php imagecreate(1, 1);")
    done = subprocess.run([*command[:3], "derive", str(tmp_path)], capture_output=True, text=True, check=False)
    assert done.returncode == 0 and "Traceback" not in done.stderr


@pytest.mark.skipif(not Path("/dev/full").exists(), reason="there is no /dev/full")
@pytest.mark.parametrize(
    "words",
    [
        ["check", NIGHTLOG, "--server", DATA / "altair.survey.json"],
        ["derive", DATA / "platevault", "-o", "-"],
        ["survey", DATA / "altair.survey.json", "-o", "-"],
    ],
)
def test_a_full_disk(words: list[str | Path]) -> None:
    with open("/dev/full", "w") as full:
        done = subprocess.run([PROGRAM, *map(str, words)], stdout=full, stderr=subprocess.PIPE, text=True, check=False)
    assert done.returncode == 2 and done.stderr.count("\n") == 1 and "No space left" in done.stderr


def test_a_damaged_answer_that_was_kept(tmp_path: Path) -> None:
    environment = {"XDG_CACHE_HOME": str(tmp_path)}
    first = run("derive", DATA / "platevault", environment=environment)
    (kept,) = (tmp_path / "fundamentum").glob("*.derived")
    whole = kept.read_bytes()
    for byte in range(0, len(whole), max(len(whole) // (12 if WHOLE else 4), 1)):
        kept.write_bytes(whole[:byte] + bytes([whole[byte] ^ 1]) + whole[byte + 1 :])
        assert run("derive", DATA / "platevault", environment=environment).out == first.out
