"""Information pages: made-up ones here; tests/real compares real ones with what that PHP itself reports."""

import http.server
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.check.judge import check
from fundamentum.errors import InputError
from fundamentum.hosts.information_page import is_page, survey_page
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.model.conditions import condition
from fundamentum.model.needs import Needs
from fundamentum.model.survey import Survey
from fundamentum.survey.server_reference import look
from fundamentum.survey.survey_file import written

TEXT = """\
phpinfo()
PHP Version => 8.2.9

System => Linux mizar 6.1.0 #1 SMP x86_64
Server API => FPM/FastCGI
Loaded Configuration File => /etc/php/8.2/fpm/php.ini
PHP Extension Build => API20220829,TS
This program makes use of the Zend Scripting Language Engine:
Zend Engine v4.2.9, Copyright (c) Zend Technologies
    with Orrery Loader v2.1, Copyright (c), by the observatory


 _______________________________________________________________________


Configuration

Core

PHP Version => 8.2.9

Directive => Local Value => Master Value
memory_limit => 64M => 128M
display_errors => Off => Off
mysqli.default_pw => hunter2 => hunter2

gd

GD Support => enabled

Additional Modules

Module Name
sysvmsg

Environment

Variable => Value
TOKEN => hunter2

PHP Variables

Variable => Value
$_SERVER['DB_PASSWORD'] => hunter2
"""
HTML = """\
<!DOCTYPE html><html><head><title>PHP 8.2.9 - phpinfo()</title></head><body><div class="center">
<table><tr class="h"><td><h1 class="p">PHP Version 8.2.9</h1></td></tr></table>
<table><tr><td class="e">System </td><td class="v">Linux mizar 6.1.0 #1 SMP x86_64 </td></tr>
<tr><td class="e">Server API </td><td class="v">FPM/FastCGI </td></tr>
<tr><td class="e">Loaded Configuration File </td><td class="v">/etc/php/8.2/fpm/php.ini </td></tr>
<tr><td class="e">PHP Extension Build </td><td class="v">API20220829,TS </td></tr></table>
<table><tr class="v"><td>This program makes use of the Zend Scripting Language Engine:<br />Zend&nbsp;Engine&nbsp;v4.2.9,
<br />&nbsp;&nbsp;&nbsp;&nbsp;with&nbsp;Orrery&nbsp;Loader&nbsp;v2.1,&nbsp;Copyright&nbsp;(c)<br /></td></tr></table>
<h1>Configuration</h1><h2><a name="module_core">Core</a></h2>
<table><tr class="h"><th>Directive</th><th>Local Value</th><th>Master Value</th></tr>
<tr><td class="e">memory_limit</td><td class="v">64M</td><td class="v">128M</td></tr>
<tr><td class="e">display_errors</td><td class="v">Off</td><td class="v">Off</td></tr>
<tr><td class="e">mysqli.default_pw</td><td class="v">hunter2</td><td class="v">hunter2</td></tr></table>
<h2><a name="module_gd">gd</a></h2><table><tr><td class="e">GD Support </td><td class="v">enabled </td></tr></table>
<h2>Additional Modules</h2><table><tr class="h"><th>Module Name</th></tr><tr><td class="e">sysvmsg</td></tr></table>
<h2>Environment</h2><table><tr class="h"><th>Variable</th><th>Value</th></tr>
<tr><td class="e">TOKEN </td><td class="v">hunter2 </td></tr></table>
<h2>PHP Variables</h2><table><tr><td class="e">$_SERVER['DB_PASSWORD']</td><td class="v">hunter2</td></tr></table>
</div></body></html>
"""


@pytest.mark.parametrize("page", [TEXT, HTML, TEXT.replace("\n", "\r\n")], ids=["text", "html", "text from Windows"])
def test_a_page_is_a_survey_without_packages(page: str) -> None:
    survey = survey_page(page.encode(), "info")
    runtime, branch = survey.runtimes[0], survey.branches[0]
    assert (survey.server, runtime.label, runtime.version, branch.api, branch.thread_safe) == (
        "mizar",
        "8.2/fpm",
        "8.2.9",
        "20220829",
        True,
    )
    assert {extension.shown for extension in runtime.extensions} == {"Core", "gd", "sysvmsg", "Orrery Loader"}
    assert runtime.settings["memory_limit"].value == "64M"
    assert "128M" in str(runtime.settings["memory_limit"].overridden[0])
    assert (survey.installed, survey.offers) == (None, None)
    assert "hunter2" not in written(survey).decode()


def test_what_a_page_cannot_tell_is_unknown_and_not_absent() -> None:
    extensions = tuple(ExtensionNeed((name,), "required") for name in ("gd", "intl"))
    settings = (SettingNeed("memory_limit", condition("memory_limit", ">= 256M"), "required"),)
    findings = check(Needs("nightlog", needs=(*extensions, *settings)), survey_page(TEXT.encode(), "info")).findings
    assert [(finding.verdict, finding.state) for finding in findings[1:]] == [
        ("met", "active"),
        ("unmet", None),
        ("unmet", None),
    ]
    assert "survey the server itself" in (findings[2].remedy or "")


def test_a_row_that_swallowed_others_says_nothing() -> None:
    swallowed = (
        HTML.partition("<h2>Additional")[0]
        + "<h2>Additional Modules</h2><table><tr><td>sysvmsg, <h2>PHP Variables</h2><table><tr><td>DB_PASSWORD</td>"
        "<td>hunter2</td></tr></table></td></tr></table>"
    )
    assert b"hunter2" not in written(survey_page(swallowed.encode(), "info"))


@given(
    st.binary(max_size=300)
    | st.lists(st.sampled_from([*TEXT.splitlines(True), *HTML.splitlines(True), "\0", "<", " => "]), max_size=60)
    .map("".join)
    .map(str.encode)
)
def test_any_bytes_are_a_page_or_a_clear_error(data: bytes) -> None:
    try:
        survey = survey_page(data, "info")
    except InputError as error:
        assert "info" in str(error)
    else:
        assert isinstance(survey, Survey)
        assert b"hunter2" not in written(survey)


class Pages(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        body = {"/info.php": HTML, "/other": "<h1>nothing of the kind</h1>"}.get(self.path.partition("?")[0])
        self.send_response(200 if body else 404)
        self.end_headers()
        self.wfile.write((body or "").encode())

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture
def address() -> Iterator[str]:
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Pages)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"127.0.0.1:{server.server_port}"
    server.shutdown()
    server.server_close()


def test_a_page_that_answers_is_read_and_should_be_removed(address: str) -> None:
    survey = look(f"http://me:hunter2@{address}/info.php?token=hunter2")
    assert survey.runtimes[0].label == "8.2/fpm"
    assert [remark.about for remark in survey.remarks] == ["packages", "information page"]
    assert "remove the page" in survey.remarks[1].why
    assert "hunter2" not in written(survey).decode()


@pytest.mark.parametrize(("path", "words"), [("nope", "status 404"), ("other", "not with an information page")])
def test_an_address_without_a_page(address: str, path: str, words: str) -> None:
    with pytest.raises(InputError, match=words) as caught:
        look(f"http://me:hunter2@{address}/{path}?token=hunter2")
    assert "hunter2" not in str(caught.value)


def test_an_address_where_nothing_answers() -> None:
    with pytest.raises(InputError, match=r"http://127\.0\.0\.1:1/x: does not answer"):
        look("http://127.0.0.1:1/x")


def test_only_pages_are_taken_for_pages(tmp_path: Path) -> None:
    assert is_page(TEXT.encode())
    assert is_page(HTML.encode())
    (tmp_path / "notes").write_text("PHP is fine")
    with pytest.raises(InputError, match="neither a survey, nor a recording"):
        look(str(tmp_path / "notes"))


@pytest.mark.parametrize(
    ("build", "told"),
    [
        ("API20220829,NTS", ("20220829", False, False, "")),
        ("API20220829,TS,debug", ("20220829", True, True, "")),
        ("API20230831,NTS,VS16", ("20230831", False, False, "VS16")),
        ("API420220829,NTS,debug,VC15", ("20220829", False, True, "VC15")),
    ],
)
def test_how_that_php_was_built(build: str, told: tuple[str, bool, bool, str]) -> None:
    (branch,) = survey_page(TEXT.replace("API20220829,TS", build).encode(), "page").branches
    assert (branch.api, branch.thread_safe, branch.debug, branch.compiler) == told
