"""What counts for an address of IIS: levels, applications, pools, environment, registry; on trees without programs."""

import struct
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.kinds.directories.named_rights import allowed
from fundamentum.model.php import Branch
from fundamentum.model.surrounding_facts import Access
from fundamentum.model.survey import Survey
from fundamentum.php_files import windows_files
from fundamentum.platforms import platform
from fundamentum.platforms.windows import registry
from fundamentum.report.powershell_script import word
from tests.hives import empty_hive
from tests.powershell import mistakes
from tests.small_root import write

from .test_iis import CONFIG, CORE, SYSTEM, drive

OTHER = {
    f"PHP84/{name}": CORE.replace(b"8.3.4", b"8.4.1").replace(b"20230831", b"20240924")
    for name in ("php8.dll", "php-cgi.exe")
}
HANDLER = '<add name="P84" path="*.php" verb="*" modules="FastCgiModule" scriptProcessor="C:\\PHP84\\php-cgi.exe" />'
BOTH = CONFIG.replace("</fastCgi>", '<application fullPath="C:\\PHP84\\php-cgi.exe" /></fastCgi>')


def web(text: str) -> str:
    return f"<configuration>{text}</configuration>"


def server(text: str) -> str:
    return f"<system.webServer>{text}</system.webServer>"


def seen(folder: Path, config: str = CONFIG, files: dict[str, str | bytes] | None = None) -> Survey:
    return drive(folder, config, {**SYSTEM, **OTHER, **(files or {})})


@pytest.mark.parametrize(
    ("config", "files", "handed"),
    [
        (BOTH, {"inetpub/plates/web.config": web(server(f"<handlers>{HANDLER}</handlers>"))}, {None: "8.4/cgi@/PHP84"}),
        (BOTH, {"inetpub/plates/web.config": web(server(f"<handlers><clear />{HANDLER}</handlers>"))}, {None: "8.4/cgi@/PHP84"}),
        (BOTH, {"inetpub/plates/old/web.config": web(server(f"<handlers>{HANDLER}</handlers>"))},
         {None: "8.3/cgi@/PHP", "/old": "8.4/cgi@/PHP84"}),
        (BOTH, {"inetpub/plates/web.config": web(f'<location path="old">{server(f"<handlers>{HANDLER}</handlers>")}</location>'),
                "inetpub/plates/old/web.config": web(server(""))}, {None: "8.3/cgi@/PHP", "/old": "8.4/cgi@/PHP84"}),
        (BOTH.replace("</configuration>", f'<location path="plates/old">{server(f"<handlers>{HANDLER}</handlers>")}</location></configuration>'),
         {"inetpub/plates/old/x": ""}, {None: "8.3/cgi@/PHP", "/old": "8.4/cgi@/PHP84"}),
        (BOTH.replace("</configuration>", f'<location path="plates">{server(f"<handlers>{HANDLER}</handlers>")}</location></configuration>'),
         {}, {None: "8.4/cgi@/PHP84"}),
        (CONFIG.replace("<handlers>", '<handlers><add name="dead" path="*.php" verb="GET" modules="StaticFileModule" />'), {}, {}),
        (CONFIG.replace("<bindings>", '<application path="/dome" applicationPool="DefaultAppPool"><virtualDirectory path="/" '
                        'physicalPath="C:\\apps\\dome" /></application><bindings>'), {"apps/dome/index.php": ""},
         {None: "8.3/cgi@/PHP", "/dome": "8.3/cgi@/PHP"}),
    ],
)  # fmt: skip
def test_the_handler_that_counts(
    tmp_path: Path, config: str, files: dict[str, str | bytes], handed: dict[str | None, str]
) -> None:
    assert {site.part: site.runtime for site in seen(tmp_path, config, files).sites} == handed


@pytest.mark.parametrize(
    ("before", "after", "why"),
    [
        ('php-cgi.exe" />', 'php-cgi.exe" instanceMaxRequests="501" />', "PHP ends after 500 requests, and IIS gives it 501"),
        ("<handlers>", '<handlers accessPolicy="Read">', "allows its handlers to read files only"),
        ('id="1"', 'id="1" serverAutoStart="false"', "the site plates is stopped"),
        ('enable32BitAppOnWin64="false"', 'autoStart="false"', "the pool DefaultAppPool is stopped"),
        ("<handlers>", ("<security><requestFiltering><fileExtensions><add fileExtension='.php' allowed='false' /></fileExtensions>"
         "</requestFiltering></security><handlers>"), "requests for files that end in .php are refused"),
        ("<handlers>", '<modules><add name="StaticFileModule" /></modules><handlers>', "is taken off the modules of plates"),
    ],
)  # fmt: skip
def test_other_links_of_the_way(tmp_path: Path, before: str, after: str, why: str) -> None:
    (site,) = seen(tmp_path, CONFIG.replace(before, after)).sites
    assert [why in barrier.why for barrier in site.barriers] == [True]


def test_handlers_that_no_site_may_set_fail_every_request(tmp_path: Path) -> None:
    locked = '<configSections><sectionGroup name="system.webServer"><section name="handlers" overrideModeDefault="Deny" /></sectionGroup></configSections>'
    own: dict[str, str | bytes] = {"inetpub/plates/web.config": web(server(f"<handlers>{HANDLER}</handlers>"))}
    (site,) = seen(tmp_path / "a", BOTH.replace("<configuration>", f"<configuration>{locked}"), own).sites
    assert "500.19" in site.failing
    opened = f'<location path="" overrideMode="Allow">{server("<handlers />")}</location></configuration>'
    free = BOTH.replace("<configuration>", f"<configuration>{locked}").replace("</configuration>", opened)
    (site,) = seen(tmp_path / "b", free, own).sites
    assert site.failing == ""


@pytest.mark.parametrize(
    ("model", "identity"),
    [
        ("", r"IIS AppPool\DefaultAppPool"),
        ('<processModel identityType="NetworkService" />', r"NT AUTHORITY\NETWORK SERVICE"),
        ('<processModel identityType="SpecificUser" userName="OBS\\plates" password="planted-7Hq2" />', r"OBS\plates"),
    ],
)
def test_as_whom_programs_work(tmp_path: Path, model: str, identity: str) -> None:
    pool = f'enable32BitAppOnWin64="false">{model}</add>'
    survey = seen(tmp_path, CONFIG.replace('enable32BitAppOnWin64="false" />', pool))
    assert (survey.sites[0].identity, survey.sites[0].visitor) == (identity, "IUSR")
    assert "planted" not in repr(survey)
    assert survey.runtimes[-1].service == "W3SVC" or "application pool DefaultAppPool" in {
        r.service for r in survey.runtimes
    }


def test_names_of_the_hosts_file_lead_to_the_site_that_has_no_name(tmp_path: Path) -> None:
    hosts: dict[str, str | bytes] = {
        "Windows/System32/drivers/etc/hosts": "127.0.0.1 localhost plates.local # ours\n::1 dome.local\n10.0.0.9 far\n"
    }
    config = CONFIG.replace(
        ':80:plates.observatory.example"', ':80:" /><binding protocol="https" bindingInformation="*:443:p.example"'
    )
    survey = seen(tmp_path, config, hosts)
    assert (survey.sites[0].aliases, survey.sites[0].secure, survey.sites[0].address) == (
        ("p.example", "plates.local", "dome.local"), True, "*:80",
    )  # fmt: skip
    assert sum("leads to this machine from here only" in remark.why for remark in survey.remarks) == 2


def application(variable: str, value: str, arguments: str = "") -> str:
    inside = f'<environmentVariables><environmentVariable name="{variable}" value="{value}" /></environmentVariables>'
    whole = f'<application fullPath="C:\\PHP\\php-cgi.exe" arguments="{arguments}">{inside}</application>'
    config = CONFIG.replace('<application fullPath="C:\\PHP\\php-cgi.exe" />', whole)
    return config.replace(
        'scriptProcessor="C:\\PHP\\php-cgi.exe"', f'scriptProcessor="C:\\PHP\\php-cgi.exe|{arguments}"'
    )


REG = 'Windows Registry Editor Version 5.00\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\PHP\\8.3]\r\n"IniFilePath"="C:\\\\conf"\r\n'
ENVIRONMENT = r"[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Control\Session Manager\Environment]"


@pytest.mark.parametrize(
    ("config", "files", "counts"),
    [
        (CONFIG, {}, "/PHP/php.ini"),
        (application("PHPRC", "C:\\conf"), {"conf/php.ini": ""}, "/conf/php.ini"),
        (application("PHPRC", "C:\\conf\\own.ini"), {"conf/own.ini": ""}, "/conf/own.ini"),
        (application("PHPRC", "C:\\gone"), {}, "/PHP/php.ini"),
        (application("TEMP", "C:\\x", "-c C:\\conf"), {"conf/php.ini": ""}, "/conf/php.ini"),
        (CONFIG, {"php.reg": REG.encode("utf-16"), "conf/php.ini": ""}, "/conf/php.ini"),
        (CONFIG, {"php.reg": REG.replace("8.3]", "8.4]"), "conf/php.ini": ""}, "/PHP/php.ini"),
        (CONFIG, {"PHP/a.reg": REG.replace("\\8.3]", "]"), "conf/php-cgi-fcgi.ini": ""}, "/conf/php-cgi-fcgi.ini"),
        (CONFIG, {"env.reg": f'{ENVIRONMENT}\n"PHPRC"="C:\\\\conf"\n', "conf/php.ini": ""}, "/conf/php.ini"),
        (CONFIG, {"env.reg": f'{ENVIRONMENT}\n"PHPRC"=hex(2):43,00,3a,00,\\\n  5c,00,63,00,00,00\n', "c/php.ini": ""}, "/c/php.ini"),
    ],
)  # fmt: skip
def test_the_ini_file_that_counts(tmp_path: Path, config: str, files: dict[str, str | bytes], counts: str) -> None:
    survey = seen(tmp_path, config, files)
    runtime = next(runtime for runtime in survey.runtimes if runtime.label == "8.3/cgi@/PHP")
    assert runtime.ini_file == counts
    others = [remark.why for remark in runtime.remarks if "is not read by this PHP" in remark.why]
    assert others == ([] if counts == "/PHP/php.ini" else [f"/PHP/php.ini is not read by this PHP: {counts} is"])


def test_what_is_started_with_other_options_is_not_known(tmp_path: Path) -> None:
    (site,) = seen(tmp_path, application("TEMP", "x", "-d memory_limit=1G")).sites
    assert [layer.unread for layer in site.layers] == ["php-cgi.exe is started with -d"]


def test_directories_that_the_registry_sets_something_for_are_told(tmp_path: Path) -> None:
    text = '[HKEY_LOCAL_MACHINE\\SOFTWARE\\PHP\\Per Directory Values\\C\\inetpub]\n"memory_limit"="1G"\n'
    survey = seen(tmp_path, CONFIG, {"php.reg": text})
    assert any("the registry sets memory_limit for scripts in a directory" in remark.why for remark in survey.remarks)


@given(st.text(max_size=300) | st.binary(max_size=300))
def test_any_registration_file_is_read_or_left(tmp_path_factory: pytest.TempPathFactory, text: str | bytes) -> None:
    folder = tmp_path_factory.mktemp("any")
    data = text.encode("utf-8", "replace") if isinstance(text, str) else text
    write(folder, {"a.reg": REG.encode() + data})
    assert registry.read(WindowsHost(folder, "any"), []).values[0].text.startswith("C:\\conf")


@given(st.lists(st.tuples(st.integers(0, 8191), st.integers(0, 255)), max_size=40))
def test_any_hive_is_read_or_said_to_be_damaged(
    tmp_path_factory: pytest.TempPathFactory, changed: list[tuple[int, int]]
) -> None:
    data = bytearray(empty_hive())
    for at, number in changed:
        data[at] = number
    folder = tmp_path_factory.mktemp("any")
    write(folder, {f"Windows/System32/config/{name}": bytes(data) for name in ("SOFTWARE", "SYSTEM")})
    found = registry.read(WindowsHost(folder, "any"), [])
    assert all("hive" in why or "is damaged" in why or "no end" in why for why in found.unread)


def image(machine: int, linker: tuple[int, int]) -> bytes:
    head = b"MZ".ljust(0x3C, b"\0") + (64).to_bytes(4, "little")
    return head + b"PE\0\0" + struct.pack("<H", machine) + bytes(18) + b"\x0b\x02" + bytes(linker) + bytes(64)


def version(major: int, minor: int) -> bytes:
    return b"MZ" + (0xFEEF04BD).to_bytes(4, "little") + bytes(4) + struct.pack("<HHHH", minor, major, 0, 0)


@pytest.mark.parametrize(
    ("runtime", "stops"), [(version(14, 16), True), (version(14, 29), False), (version(14, 40), False), (b"MZ", False)]
)
def test_a_compiler_runtime_that_is_older_than_the_linker(tmp_path: Path, runtime: bytes, stops: bool) -> None:
    files: dict[str, str | bytes] = {
        "Windows/System32/vcruntime140.dll": runtime,
        "PHP/php8.dll": image(0x8664, (14, 29)) + CORE,
    }
    (site,) = seen(tmp_path, CONFIG, files).sites
    assert ["linked with 14.29" in barrier.why for barrier in site.barriers] == [True] * stops


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (image(0x8664, (14, 29)), ("x86-64", (14, 29))),
        (image(0x14C, (14, 0)), ("x86", (14, 0))),
        (b"MZ", ("", (0, 0))),
        (b"", ("", (0, 0))),
    ],
)
def test_what_a_head_tells(data: bytes, told: tuple[str, tuple[int, int]]) -> None:
    assert (windows_files.processor(data), windows_files.linker(data)) == told


POOL = r"IIS AppPool\plates"
USERS, MINE = Access(r"BUILTIN\Benutzer", "S-1-5-32-545", 5), Access(POOL, "S-1-5-82-1", 7)


@pytest.mark.parametrize(
    ("access", "who", "bits"),
    [
        ((USERS,), POOL, 5),
        ((USERS, MINE), POOL, 7),
        ((USERS, MINE), r"IIS AppPool\other", 5),
        ((USERS, MINE, Access("Everyone", "S-1-1-0", 2, denied=True)), POOL, 5),
        ((Access(r"BUILTIN\IIS_IUSRS", "", 7),), POOL, 7),
        ((Access(r"BUILTIN\Administrators", "", 7),), r"NT AUTHORITY\SYSTEM", 7),
        ((Access(r"BUILTIN\Administrators", "", 7),), POOL, 0),
        ((Access(r"NT AUTHORITY\IUSR", "S-1-5-17", 4),), "IUSR", 4),
    ],
)
def test_rights_of_names(access: tuple[Access, ...], who: str, bits: int) -> None:
    assert allowed(access, who) == bits


@pytest.mark.parametrize(
    ("name", "branch", "from_"),
    [
        ("mbstring", Branch("8.3", "", "/PHP/ext", processor="x86-64", compiler="VS16"), "php-8.3.4-nts-Win32-vs16-x64.zip"),
        ("gd", Branch("8.4", "", "/PHP/ext", processor="x86", thread_safe=True), "php-8.3.4-Win32-vs17-x86.zip"),
        ("redis", Branch("8.3", "", "/PHP/ext", processor="x86-64"), "php_redis-VERSION-8.3-nts-vs16-x64.zip"),
        ("dom", Branch("8.3", "", "/PHP/ext"), "take another build: PHP's own, php-8.3.4-nts-Win32-vs16-x64.zip, has dom inside"),
        ("apcu", Branch("7.4", "", "/PHP/ext", thread_safe=True), "php_apcu-VERSION-7.4-ts-vc15-x64.zip"),
    ],
)  # fmt: skip
def test_the_exact_build_to_fetch(name: str, branch: Branch, from_: str) -> None:
    assert from_ in platform("windows").extension_from(name, branch, "8.3.4")


def test_a_php_to_fetch() -> None:
    of = platform("windows")
    assert "php-8.4.*-nts-Win32-vs17-x64.zip" in of.php_from("8.4", False, "x86-64")
    assert "php-7.4.*-Win32-vc15-x86.zip" in of.php_from("7.4", True, "x86")


@given(st.text(max_size=80))
def test_any_text_is_one_word_of_powershell(text: str) -> None:
    assert mistakes(f"$a = @({word(text)})\n") == []
    assert word(text).isascii()
