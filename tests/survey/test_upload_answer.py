"""What the uploaded PHP file answered, as a survey.  tests/real asks the file itself."""

import json
from typing import Any

import pytest

from fundamentum.check.judge import check
from fundamentum.errors import InputError
from fundamentum.survey.upload_answer import survey_upload
from tests.small_root import needs

SAID: dict[str, Any] = {
    "format": 1, "taken": 1790000000, "file": "/srv/nightlog/ask.php", "version": "8.2.9", "sapi": "fpm-fcgi",
    "host": "nightlog.example:8080", "web_server": "nginx/1.22.1", "system": "Linux", "machine": "x86_64",
    "thread_safe": False, "debug": False, "build": "API20220829,NTS", "ini_file": "/etc/php.ini",
    "extensions": ["Core", "gd", "GD"], "settings": {"memory_limit": "64M", "disable_functions": "mail", "x y": "1",
    "extension_dir": "/usr/lib/php", "session.save_path": "redis://u:hunter2@h"},
    "functions": {"exec": False, "mail": False, "popen": True}, "places": {"/srv/a": "writable", "/srv/b": "absent", "/srv/c": "file"},
}  # fmt: skip


def answer(**more: Any) -> bytes:
    return json.dumps({**SAID, **more}).encode()


def test_one_runtime_and_one_site_as_a_visitor_meets_them() -> None:
    survey = survey_upload(answer(), "answer.json")
    (runtime,), (site,), (branch,) = survey.runtimes, survey.sites, survey.branches
    assert (runtime.label, runtime.version, runtime.serves, runtime.ini_file) == (
        "8.2/fpm",
        "8.2.9",
        True,
        "/etc/php.ini",
    )
    assert {name: setting.value for name, setting in runtime.settings.items() if name != "session.save_path"} == {
        "memory_limit": "64M", "disable_functions": "mail,exec", "extension_dir": "/usr/lib/php",
    }  # fmt: skip
    assert "hunter2" not in repr(survey)
    assert (survey.system.family, survey.system.name) == ("page", "Linux, by what PHP told a visitor")
    assert [extension.name for extension in runtime.extensions] == ["core", "gd"]
    assert (site.name, site.server, site.root, site.runtime) == (
        "nightlog.example",
        "nginx",
        "/srv/nightlog",
        "8.2/fpm",
    )
    assert (branch.api, branch.extension_dir, branch.thread_safe, branch.system) == (
        "20220829",
        "/usr/lib/php",
        False,
        "Linux",
    )
    assert {place.path: (place.kind, place.said) for place in survey.places} == {
        "/srv/a": ("directory", "writable"), "/srv/b": ("absent", ""), "/srv/c": ("file", ""),
    }  # fmt: skip
    assert (survey.server, survey.reader, survey.asked and survey.asked.directories) == (
        "nightlog.example:8080",
        "user",
        ("/srv/a", "/srv/b", "/srv/c"),
    )
    assert {str(finding.need): finding.verdict for finding in check(needs("gd", "intl"), survey).findings} == {
        "php": "met", "extension:gd": "met", "extension:intl": "unmet",
    }  # fmt: skip


def test_what_differs_with_the_server() -> None:
    survey = survey_upload(
        answer(host="", places={}, system="WINNT", sapi="odd", web_server="Strange Thing", file="C:\\www\\ask.php"), "a"
    )
    assert (survey.server, survey.asked, survey.branches[0].system) == ("server of the upload", None, "Windows")
    assert (survey.runtimes[0].sapi, survey.sites[0].name, survey.sites[0].server, survey.sites[0].root) == (
        "other",
        "default",
        "strange",
        "C:\\www",
    )


@pytest.mark.parametrize(
    ("data", "words"),
    [(b"{}", "is no answer"), (b"\xff", "is no answer"), (answer(version="x"), "names no version"), (b"[" * 5_000_000, "larger than"), (answer(format=2), "is no answer")],
)  # fmt: skip
def test_what_is_no_answer_is_refused(data: bytes, words: str) -> None:
    with pytest.raises(InputError, match=words):
        survey_upload(data, "answer.json")
