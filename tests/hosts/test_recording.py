"""Recordings: only what the recorder writes is taken.  tests/real runs the recorder itself."""

import gzip
import io
import subprocess
import tarfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.errors import InputError
from fundamentum.hosts.base import Extras, HostError, Question
from fundamentum.hosts.recording import Recording, open_recording
from fundamentum.hosts.recording_archive import MAX_ARCHIVE
from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey import recorder
from fundamentum.survey.observe import survey
from fundamentum.survey.survey_file import read, written

MEMBERS = {
    "format": b"1\n",
    "hostname": b"mizar\n",
    "stats": b"41ed 10 5.5 5.5 0 0 /etc\n81a4 6 7.25 9.5 0 0 /etc/os-release\na1ff 3 1 1 0 0 /etc/link\n"
    b"81a4 9 1 1 0 0 /etc/secret\n81a4 9 1 1 0 0 /etc/\xff\n41ed 9 1 1 0 0 /srv\n81a4 9 1 1 0 0 /srv/deep\nnonsense\n",
    "links": b"/etc/link\t/srv\n/etc/loop\t/etc/loop\n/etc/gone\t\n",
    "contents": b"1\t6\t/etc/os-release\n",
    "unreadable": b"/etc/secret\n",
    "content/1": b"ID=x\n\n",
    "asked": b"directory /srv/deep\ndirectory /var/gone\ncommand git\ntask bin/cron.php\nelse x\n\n",
    "processes": b"seen\t12.50\tnginx: master\t/usr/sbin/nginx (deleted)\nseen\t11.25\tnginx: master\t/usr/sbin/nginx\n",
}


def archive(members: dict[str, bytes], *odd: tarfile.TarInfo) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for name, content in members.items():
            info = tarfile.TarInfo(f"./{name}")
            info.size = len(content)
            tar.addfile(info, io.BytesIO(content))
        for one in odd:
            tar.addfile(one)
    return out.getvalue()


def link(name: str, kind: bytes, target: str) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.type, info.linkname = kind, target
    return info


def test_a_recording_behaves_as_the_server_did() -> None:
    host = open_recording(gzip.compress(archive(MEMBERS)), "x.tar")
    assert (host.name, host.read("/etc/os-release"), host.read("/nope")) == ("mizar", b"ID=x\n\n", None)
    assert host.names("/etc") == ["link", "os-release", "secret"]
    assert host.passed_over == ["/etc"], "a name that is no text is left out, and said"
    assert host.resolve("/etc/link/deep") == "/srv/deep"
    assert (host.resolve("/etc/gone"), host.stat("/etc/gone"), host.resolve("/etc/loop")) == (None, None, None)
    about = host.stat("/etc/os-release")
    assert about and (about.modified, about.mode, about.is_directory) == (9.5, 0o644, False)
    for path, words in (
        ("/etc/secret", "Permission denied"),
        ("/etc", "not a regular"),
        ("/srv/deep", "not recorded"),
        ("/etc/loop", "links"),
    ):
        with pytest.raises(HostError, match=words):
            host.read(path)
    assert [(process.title, process.started, process.program) for process in host.running([]).processes] == [
        ("nginx: master", 11.25, "/usr/sbin/nginx")
    ]


MORE = {
    **MEMBERS,
    "stats": MEMBERS["stats"] + b"41ed 9 1 1 0 0 /closed\n81a4 700 1 1 0 0 /usr/lib/php/gd.so\n",
    "unreadable": b"/etc/secret\n/closed\n",
    "modules": b"700\t/usr/lib/php/gd.so\n",
    "heads": b"\x7fELF" + bytes(16),
    "identities": b"/usr/lib/php/gd.so:API20220829,NTS\n/usr/lib/php/other.so:x\n",
    "contents": b"1\t6000\t/etc/os-release\nmany\tx\n",
    "space": b"2048 /srv\nfull /etc\n",
    "labels": b"httpd_sys_content_t /srv\n? /etc\n",
    "grants": b"# file: /srv\nuser:33:rwx\ngroup::r-x\nmask::r--\nnonsense\n",
    "machine": b"memory 2048\nswap 0\nprocessors 2\nenforce 0\nodd\n",
    "access": b"allow\t6\tS-1-1-0\tEveryone\t/SRV\ndeny\t2\tS-1-5-32-545\tUsers\t/srv\nallow\t9\tx\ty\t/srv\nmay\t4\tx\ty\t/srv\n",
    "processes": b"hidden\nseen\t5\tphp-fpm\t/usr/sbin/php-fpm\tseen\tPHPRC=/etc/php\tHOME=/root\nseen\tsoon\tx\ty\n"
    b"seen\t7\tphp-fpm\t/usr/sbin/php-fpm\tseen\tPHPRC=/later\nseen\t3\tnginx\t/usr/sbin/nginx\thidden\n",
    "answer-locales": b"C.utf8\n",
}


def test_what_a_recording_tells_beside_its_files() -> None:
    host = open_recording(archive(MORE), "x.tar")
    assert host.read("/usr/lib/php/gd.so", 4) == b"\x7fELF" and b"API20220829,NTS" in (
        host.view("/usr/lib/php/gd.so") or b""
    )
    assert (host.whole_size("/etc/os-release", 6), host.whole_size("/srv/deep", 6)) == (6000, 6)
    with pytest.raises(HostError, match="larger than 0 KiB"):
        host.read("/etc/os-release", 3)
    with pytest.raises(HostError, match="Permission denied"):
        host.names("/closed")
    stream = host.stream("/etc/os-release")
    assert stream and stream.read() == b"ID=x\n\n" and host.stream("/nope") is None
    assert dict(host.entries("/etc"))["link"] is None and (host.stat("\0"), host.stat("x" * 9999)) == (None, None)
    assert (host.changed("/etc/os-release"), host.changed("/etc/link/deep"), host.changed("/nope")) == (9.5, 1.0, None)
    about = host.extras("/srv")
    assert [(grant.kind, grant.id, grant.bits) for grant in about.grants] == [
        ("user", 33, 7), ("owning-group", 0, 5), ("mask", 0, 4),
    ]  # fmt: skip
    assert (about.label, about.free, about.closed) == ("httpd_sys_content_t", 2048 * 1024, False)
    assert [(access.name, access.bits, access.denied) for access in about.access or ()] == [
        ("Everyone", 6, False),
        ("Users", 2, True),
    ]
    assert host.extras("/closed").closed and host.extras("/etc") == Extras()
    machine = host.machine()
    assert (machine.memory, machine.swap, machine.processors) == (2048 * 1024, 0, 2)
    assert (machine.enforcing, machine.permissive) == (False, True)
    seen = host.running([], ("PHPRC",))
    assert (seen.hidden, {process.title: (process.started, process.variables) for process in seen.processes}) == (
        True, {"php-fpm": (5.0, (("PHPRC", "/etc/php"),)), "nginx": (3.0, None)},
    )  # fmt: skip
    assert (host.answer(Question("locales", ("locale", "-a"))), host.answer(Question("other", ("x",)))) == (
        b"C.utf8\n",
        None,
    )


@pytest.mark.parametrize(
    ("data", "words"),
    [
        (archive(MEMBERS, tarfile.TarInfo("../format2")), "does not write; refused"),
        (archive(MEMBERS, tarfile.TarInfo("content/../../x")), "does not write; refused"),
        (archive(MEMBERS, tarfile.TarInfo("/etc/passwd")), "does not write; refused"),
        (archive(MEMBERS, link("content/2", tarfile.SYMTYPE, "/etc/passwd")), "does not write; refused"),
        (archive(MEMBERS, link("content/2", tarfile.LNKTYPE, "format")), "does not write; refused"),
        (archive(MEMBERS, link("content/2", tarfile.CHRTYPE, "")), "does not write; refused"),
        (archive(MEMBERS, tarfile.TarInfo("./format")), "does not write; refused"),
        (archive({}), "no recording of this program"),
        (gzip.compress(archive(MEMBERS))[:-40], "breaks off"),
        (archive(MEMBERS)[:700], "no recording"),
    ],
)
def test_what_the_recorder_does_not_write_is_refused(data: bytes, words: str) -> None:
    with pytest.raises(InputError, match=words):
        open_recording(data, "x.tar")


def test_what_a_recorder_was_not_asked_about_is_not_told_to_be_missing() -> None:
    asked = Asked(
        ("git", "unzip"), ("/srv/deep", "/var/gone", "/var/other", "/etc"), tasks=("bin/cron.php", "bin/x.php")
    )
    surveyed = survey(Recording(MEMBERS), asked)
    assert [command.name for command in surveyed.commands] == ["git"]
    places = {place.path: place.kind for place in surveyed.places}
    assert places["/var/gone"] == "absent" and places["/etc"] == "directory" and "/var/other" not in places
    assert surveyed.asked and surveyed.asked.tasks == ("bin/cron.php",)
    older = {name: content for name, content in MEMBERS.items() if name != "asked"}
    assert {"git", "unzip"} == {command.name for command in survey(Recording(older), asked).commands}


def test_a_decompression_bomb_is_refused() -> None:
    bomb = gzip.compress(bytes(1024 * 1024), 9) * (MAX_ARCHIVE // (1024 * 1024) + 2)
    one_stream = gzip.compress(bytes(MAX_ARCHIVE + 1024), 1)
    for data in (bomb, one_stream):
        with pytest.raises(InputError, match=r"larger than|no recording"):
            open_recording(data, "x.tar")


@given(
    st.dictionaries(
        st.sampled_from(sorted(MEMBERS)),
        st.binary(max_size=200) | st.sampled_from(sorted(MEMBERS.values())),
        max_size=9,
    )
)
def test_any_recording_gives_a_survey(members: dict[str, bytes]) -> None:
    surveyed = survey(Recording(members))
    assert read(written(surveyed), "x") == surveyed


@given(st.binary(max_size=600) | st.binary(max_size=60).map(lambda data: archive(MEMBERS)[:900] + data))
def test_any_bytes_are_a_recording_or_a_clear_error(data: bytes) -> None:
    try:
        open_recording(data, "x.tar")
    except InputError as error:
        assert "x.tar" in str(error)


def test_the_recorder_is_a_script_on_its_own(tmp_path: Path) -> None:
    script = recorder.script()
    assert script.startswith("#!/bin/sh\n")
    assert "%" + "FILTER" not in script
    (tmp_path / "recorder.sh").write_text(script)
    subprocess.run(["sh", "-n", tmp_path / "recorder.sh"], check=True)
