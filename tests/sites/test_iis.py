"""The way in under IIS, link by link, and which php.ini an all-in-one bundle reads: on trees without real programs."""

from pathlib import Path

import pytest

from fundamentum.model.survey import Survey
from fundamentum.survey.server_reference import look
from tests.small_root import write

CORE = b"MZ" + b"X-Powered-By: PHP/8.3.4\0" + b"\0API20230831,NTS,VS16\0"
CONFIG = r"""<configuration>
  <system.applicationHost>
    <applicationPools><add name="DefaultAppPool" enable32BitAppOnWin64="false" /></applicationPools>
    <sites><site name="plates" id="1">
      <application path="/" applicationPool="DefaultAppPool">
        <virtualDirectory path="/" physicalPath="C:\inetpub\plates" /></application>
      <bindings><binding protocol="http" bindingInformation="*:80:plates.observatory.example" /></bindings>
    </site></sites>
  </system.applicationHost>
  <system.webServer>
    <globalModules><add name="FastCgiModule" image="%windir%\System32\inetsrv\iisfcgi.dll" /></globalModules>
    <fastCgi><application fullPath="C:\PHP\php-cgi.exe" /></fastCgi>
    <defaultDocument><files><add value="index.php" /></files></defaultDocument>
    <handlers><add name="PHP" path="*.php" verb="*" modules="FastCgiModule"
      scriptProcessor="C:\PHP\php-cgi.exe" preCondition="bitness64" /></handlers>
  </system.webServer>
</configuration>"""
SYSTEM: dict[str, str | bytes] = {"Windows/System32/kernel32.dll": "", "Windows/System32/vcruntime140.dll": ""}
MAIN = "Windows/System32/inetsrv/config/applicationHost.config"


def drive(folder: Path, config: str, files: dict[str, str | bytes]) -> Survey:
    binaries = {f"PHP/{name}": CORE for name in ("php8.dll", "php-cgi.exe")}
    write(folder, {**binaries, "PHP/php.ini": "", "inetpub/plates/index.php": "", MAIN: config, **files})
    return look(str(folder))


@pytest.mark.parametrize(
    ("before", "after", "why", "remedy"),
    [
        ('<add name="FastCgiModule" image', '<add name="CgiModule" image', "IIS has no CGI feature", "IIS-CGI"),
        (
            '<application fullPath="C:\\PHP\\php-cgi.exe" />',
            "",
            "no FastCGI application is set up for C:\\PHP\\php-cgi.exe",
            "\"/+[fullPath='C:\\PHP\\php-cgi.exe']\" /commit:apphost",
        ),
        (
            'enable32BitAppOnWin64="false"',
            'enable32BitAppOnWin64="true"',
            "the pool DefaultAppPool runs in 32 bits",
            '/apppool.name:DefaultAppPool /enable32BitAppOnWin64:false',
        ),
        ('<add value="index.php" />', '<add value="index.htm" />', "is no default document", "/+files.[value='index.php']"),
        ('scriptProcessor="C:\\PHP\\', 'scriptProcessor="C:\\gone\\', "names C:\\gone\\php-cgi.exe, which is not there", "put PHP there"),
    ],
)  # fmt: skip
def test_the_first_broken_link_is_named_with_its_command(
    tmp_path: Path, before: str, after: str, why: str, remedy: str
) -> None:
    assert before in CONFIG
    (site,) = drive(tmp_path, CONFIG.replace(before, after), SYSTEM).sites
    assert why in site.barriers[0].why
    assert remedy in site.barriers[0].remedy


def test_a_whole_way_has_no_barrier(tmp_path: Path) -> None:
    (site,) = drive(tmp_path, CONFIG, SYSTEM).sites
    assert (site.barriers, site.runtime) == ((), "8.3/cgi@/PHP")


@pytest.mark.parametrize(("home", "runtime"), [("%SystemDrive%\\PHP\\", "8.3/cgi@/PHP"), ("%PHP_HOME%\\", None)])
def test_variables_in_paths(tmp_path: Path, home: str, runtime: str | None) -> None:
    (site,) = drive(tmp_path, CONFIG.replace("C:\\PHP\\", home), SYSTEM).sites
    assert (site.barriers, site.runtime) == ((), runtime)


def test_the_compiler_runtime_is_missed_only_where_the_system_can_be_seen(tmp_path: Path) -> None:
    (site,) = drive(tmp_path, CONFIG, {"Windows/System32/kernel32.dll": ""}).sites
    assert ["vcruntime140.dll" in barrier.why for barrier in site.barriers] == [True]


def test_a_bundles_module_reads_the_file_beside_the_web_servers_program(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "bundle/php/php8.dll": CORE, "bundle/php/php.exe": CORE, "bundle/php/php8apache2_4.dll": CORE,
        "bundle/php/php.ini": "memory_limit=64M\n",
        "bundle/apache/bin/httpd.exe": "MZ", "bundle/apache/bin/php.ini": "memory_limit=256M\n",
    }  # fmt: skip
    write(tmp_path, {**files, **SYSTEM})
    survey = look(str(tmp_path))
    module, program = (
        next(runtime for runtime in survey.runtimes if runtime.sapi == sapi) for sapi in ("apache2", "cli")
    )
    assert (module.settings["memory_limit"].value, program.settings["memory_limit"].value) == ("256M", "64M")
    assert any(
        "/bundle/php/php.ini is not read by this PHP: /bundle/apache/bin/php.ini is" in remark.why
        for remark in module.remarks
    )
