"""Windows trees with real DLLs, built by mingw: which PHP it is, what it loads, and which site it serves."""

import subprocess
from pathlib import Path

import pytest

from fundamentum.check.judge import check
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.model.findings import Finding
from fundamentum.model.needs import Needs
from fundamentum.model.origin import Origin
from fundamentum.model.survey import Survey
from fundamentum.plan.planner import plan
from fundamentum.survey.server_reference import look
from tests.small_root import TODAY, needs, write

from .built import build_windows, missing
from .conftest import REAL
from .windows_commands import carry_out
from .windows_trees import php

pytestmark = pytest.mark.real
IIS = r"""<?xml version="1.0" encoding="UTF-8"?>
<configuration>
  <system.applicationHost><sites>
    <site name="Default Web Site" id="1">
      <application path="/"><virtualDirectory path="/" physicalPath="%SystemDrive%\inetpub\wwwroot" /></application>
      <bindings><binding protocol="http" bindingInformation="*:80:nightlog.observatory.example" /></bindings>
    </site>
    <site name="plates" id="2">
      <application path="/"><virtualDirectory path="/" physicalPath="C:\inetpub\plates" /></application>
    </site>
  </sites></system.applicationHost>
  <system.webServer>
    <fastCgi><application fullPath="C:\PHP\php-cgi.exe"><environmentVariables>
      <environmentVariable name="DB_PASSWORD" value="planted-7Hq2" /></environmentVariables></application></fastCgi>
    <handlers><add name="PHP" path="*.php" verb="*" modules="FastCgiModule" scriptProcessor="c:\php\PHP-CGI.exe|-c C:\php" /></handlers>
  </system.webServer>
</configuration>
"""
WEB = r"""<configuration><system.webServer><handlers>
<remove name="PHP" /><add name="PHP84" path="*.php" verb="*" modules="FastCgiModule" scriptProcessor="C:\tools\php84\php-cgi.exe" />
</handlers></system.webServer></configuration>"""
HTTPD = r"""Define BUNDLE "C:/bundle"
ServerRoot "${BUNDLE}/apache"
LoadModule php_module "${BUNDLE}/php/php8apache2_4.dll"
PHPINIDir "${BUNDLE}/php"
AddHandler application/x-httpd-php .php
DocumentRoot "${BUNDLE}/htdocs"
ServerName bundle.observatory.example
"""
INI = """\
; extension_dir = "./"
extension_dir = "ext"
extension=gd
;extension=intl
extension=nowhere
extension=php_threads.dll
zend_extension=C:\\PHP\\ext\\php_opcache.dll
memory_limit = 256M
"""


@pytest.fixture(scope="module")
def drive(tmp_path_factory: pytest.TempPathFactory) -> Path:
    if missing():
        (pytest.fail if REAL else pytest.skip)(f"{missing()} is not installed")
    root = tmp_path_factory.mktemp("drive")
    php(root / "PHP", "8.3.12", "20230831")
    body = 'ENTRY(threads, "threads"); __declspec(dllexport) void *get_module(void) { return &threads; }'
    build_windows(root / "PHP/ext/php_threads.dll", body, thread_safe=True)
    php(root / "Tools/php84", "8.4.3", "20240924")
    php(root / "bundle/php", "8.2.20", "20220829", thread_safe=True)
    files: dict[str, str | bytes] = {
        "Windows/System32/inetsrv/config/applicationHost.config": IIS,
        "inetpub/plates/web.config": WEB,
        "bundle/apache/conf/httpd.conf": HTTPD,
        "PHP/php.ini": INI,
        "bundle/php/php.ini": "extension_dir=C:\\bundle\\php\\ext\nextension=gd\n",
    }
    write(root, files)
    return root


def finding(survey: Survey, name: str, selector: str) -> Finding:
    return check(Needs("nightlog", needs=(ExtensionNeed((name,), "required"),)), survey, selector).findings[-1]


def test_every_php_of_a_drive_is_told_by_its_own_binaries(drive: Path) -> None:
    survey = look(str(drive))
    builds = {
        branch.home: (branch.branch, branch.thread_safe, branch.processor, branch.compiler)
        for branch in survey.branches
    }
    assert builds == {
        "/PHP": ("8.3", False, "x86-64", "VS16"),
        "/Tools/php84": ("8.4", False, "x86-64", "VS16"),
        "/bundle/php": ("8.2", True, "x86-64", "VS16"),
    }
    assert {runtime.label for runtime in survey.runtimes if runtime.serves} == {
        "8.3/cgi@/PHP",
        "8.4/cgi@/Tools/php84",
        "8.2/apache2@/bundle/php",
    }
    assert any("php.ini-production was never copied" in remark.why for remark in survey.remarks)


def test_extension_lines_on_off_and_pointing_nowhere(drive: Path) -> None:
    survey = look(str(drive))
    runtime = next(runtime for runtime in survey.runtimes if runtime.label == "8.3/cgi@/PHP")
    loaded = {
        extension.name: extension.fault and extension.fault.words
        for extension in runtime.extensions
        if not extension.origin.built_in
    }
    assert {name for name, words in loaded.items() if words is None} == {"gd", "opcache"}
    assert "does not exist" in (loaded["nowhere"] or "")
    assert "thread-safe PHP, and this one is non-thread-safe" in (loaded["threads"] or "")
    assert runtime.settings["memory_limit"].origin == Origin("/PHP/php.ini", 8)
    intl = finding(survey, "intl", "8.3/cgi@/PHP")
    assert (intl.state, intl.remedy) == ("switched-off", "add extension=intl to /PHP/php.ini")
    assert finding(survey, "gd", "8.4/cgi@/Tools/php84").remedy == "add extension=gd to /Tools/php84/php.ini"
    assert finding(survey, "gd", "8.2/apache2@/bundle/php").state == "active"
    absent = finding(survey, "mbstring", "8.3/cgi@/PHP")
    assert absent.verdict == "unmet"
    assert "php-8.3.12-nts-Win32-vs16-x64.zip" in (absent.remedy or "")


def test_sites_of_iis_and_of_a_bundle(drive: Path) -> None:
    sites = {site.name: (site.server, site.root, site.runtime) for site in look(str(drive)).sites}
    assert sites == {
        "Default Web Site": ("iis", "/inetpub/wwwroot", "8.3/cgi@/PHP"),
        "plates": ("iis", "/inetpub/plates", "8.4/cgi@/Tools/php84"),
        "bundle.observatory.example": ("apache2", "/bundle/htdocs", "8.2/apache2@/bundle/php"),
    }


def test_a_php_directory_alone(drive: Path) -> None:
    survey = look(str(drive / "PHP"))
    assert [runtime.label for runtime in survey.runtimes] == ["8.3/cli@/", "8.3/cgi@/"]
    assert finding(survey, "gd", "8.3/cgi@/").state == "active"
    assert finding(survey, "opcache", "8.3/cgi@/").state == "active", "C:\\PHP\\ext is this directory's ext"


def test_the_diff_of_a_plan_applied_makes_it_run(drive: Path, tmp_path: Path) -> None:
    tree = tmp_path / "drive"
    subprocess.run(["cp", "-a", str(drive), str(tree)], check=True)
    ini = tree / "PHP/php.ini"
    ini.write_text(ini.read_text().replace("\n", "\r\n"))
    wanted = needs("intl", "gd", settings='[settings.required]\nmemory_limit = ">= 512M"\nmax_input_vars = ">= 5000"\n')
    made = plan([wanted], look(str(tree)), "8.3/cgi@/PHP", today=TODAY)
    assert made.complete
    (edit,) = made.edits
    lines = [line.rstrip("\r") for line in edit.diff.splitlines()]
    assert lines[:8] == [
        "--- /PHP/php.ini", "+++ /PHP/php.ini", "@@ -4 +4 @@", "-;extension=intl", "+extension=intl",
        "@@ -8 +8 @@", "-memory_limit = 256M", "+memory_limit = 512M",
    ]  # fmt: skip
    subprocess.run(["patch", "--binary", str(ini)], input=edit.diff.encode(), check=True, capture_output=True)
    assert check(wanted, look(str(tree)), "8.3/cgi@/PHP").satisfied
    assert plan([wanted], look(str(tree)), "8.3/cgi@/PHP", today=TODAY).empty
    fresh = plan([wanted], look(str(tree)), "8.4/cgi@/Tools/php84", today=TODAY)
    assert [(change.path, change.copied_from) for change in fresh.edits] == [
        ("/Tools/php84/php.ini", "/Tools/php84/php.ini-production")
    ]
    carry_out(fresh, tree)
    assert check(wanted, look(str(tree)), "8.4/cgi@/Tools/php84").satisfied
    lacking = plan([needs("mbstring")], look(str(tree)), "8.3/cgi@/PHP", today=TODAY).unresolved
    assert "take ext\\php_mbstring.dll from PHP's own archive" in lacking[0].why
