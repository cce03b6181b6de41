"""Where PHP stands: packages of each family, collections, what was built from source, Windows."""

from pathlib import Path

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.model.installation import Installation
from fundamentum.model.system import System
from fundamentum.survey.installations import installations
from tests.small_root import write

BUILD = b"\0API20220829,NTS\0"


def php(version: str = "8.2.9", build: bytes = BUILD, configure: str = "") -> bytes:
    return b"\x7fELF" + bytes(40) + f"X-Powered-By: PHP/{version}\0".encode() + build + configure.encode() + b"\0"


def found(
    root: Path, files: dict[str, str | bytes], family: str = "unknown", windows: bool = False
) -> tuple[list[Installation], list[str]]:
    write(root, files)
    host = WindowsHost(root, "x") if windows else DirectoryHost(root, "x")
    programs, remarks = installations(host, System(family=family, architecture="amd64"))
    return programs, [f"{remark.title}: {remark.why}" for remark in remarks]


def test_branches_of_the_debian_family(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "usr/sbin/php-fpm8.2": php(), "usr/bin/php8.2": php(), "usr/lib/cgi-bin/php8.2": php(),
        "usr/lib/apache2/modules/libphp8.2.so": php(), "etc/apache2/mods-enabled/php8.2.load": "",
        "etc/php/8.2/fpm/php.ini": "", "usr/lib/php/20220829/x": "", "etc/php/8.4/fpm/php.ini": "", "usr/sbin/php-fpm8.4": php("8.4.1"),
    }  # fmt: skip
    programs, remarks = found(tmp_path, files, "debian")
    assert remarks == ["PHP 8.4: no extension directory of that branch under /usr/lib/php: not judged"]
    assert {
        installation.sapi: (installation.program, installation.service, installation.serves)
        for installation in programs
    } == {
        "cli": ("/usr/bin/php8.2", None, False),
        "fpm": ("/usr/sbin/php-fpm8.2", "php8.2-fpm", True),
        "apache2": ("/usr/lib/apache2/modules/libphp8.2.so", "apache2", True),
        "cgi": ("/usr/lib/cgi-bin/php8.2", None, False),
    }
    fpm = next(installation for installation in programs if installation.sapi == "fpm")
    assert (fpm.version, fpm.ini_folder, fpm.scan_dirs, fpm.extension_dir) == (
        "8.2.9",
        "/etc/php/8.2/fpm",
        ("/etc/php/8.2/fpm/conf.d",),
        "/usr/lib/php/20220829",
    )
    assert (fpm.fpm_config, fpm.switches, fpm.build.processor, fpm.build.thread_safe) == (
        "/etc/php/8.2/fpm/php-fpm.conf",
        "/etc/php/8.2/mods-available",
        "x86-64",
        False,
    )
    (tmp_path / "etc/apache2/mods-enabled/php8.2.load").unlink()
    again, _ = found(tmp_path, {}, "debian")
    assert [installation.serves for installation in again if installation.sapi == "apache2"] == [False]


RPM: dict[str, str | bytes] = {
    "usr/bin/php": php(), "usr/bin/php-cgi": php(), "usr/sbin/php-fpm": php(), "usr/lib64/php/modules/x.so": "",
    "usr/lib64/httpd/modules/libphp.so": php(), "usr/lib64/httpd/modules/libphp-zts.so": php(),
    "opt/maker/php74/root/usr/bin/php": php("7.4.33", b"\0API20190902,TS\0"), "etc/opt/maker/php74/php.ini": "",
    "opt/maker/php81/root/usr/sbin/php-fpm": php("8.1.2", b"\0API20210902,NTS\0"), "opt/maker/php81/root/etc/php.ini": "",
    "opt/maker/none/root/usr/bin/php": php(), "opt/maker/other/usr/bin/php": php(),
}  # fmt: skip


def test_the_rhel_family_and_its_collections(tmp_path: Path) -> None:
    programs, _ = found(tmp_path, RPM, "redhat")
    own = {installation.sapi: installation for installation in programs if not installation.home}
    assert {sapi: installation.program for sapi, installation in own.items()} == {
        "cli": "/usr/bin/php",
        "cgi": "/usr/bin/php-cgi",
        "fpm": "/usr/sbin/php-fpm",
        "apache2": "/usr/lib64/httpd/modules/libphp.so",
    }
    assert (own["fpm"].service, own["apache2"].service, own["cli"].service) == ("php-fpm", "httpd", None)
    assert [own[sapi].serves for sapi in ("cli", "cgi", "fpm", "apache2")] == [False, False, True, False]
    assert (own["fpm"].ini_folder, own["fpm"].scan_dirs, own["fpm"].fpm_config) == (
        "/etc",
        ("/etc/php.d",),
        "/etc/php-fpm.conf",
    )
    assert (own["fpm"].extension_dir, own["cli"].fpm_config) == ("/usr/lib64/php/modules", None)
    old = next(installation for installation in programs if installation.home == "/opt/maker/php74")
    assert (old.branch, old.ini_folder, old.scan_dirs, old.extension_dir) == (
        "7.4",
        "/etc/opt/maker/php74",
        ("/etc/opt/maker/php74/php-zts.d",),
        "/opt/maker/php74/root/usr/lib64/php-zts/modules",
    )
    new = next(installation for installation in programs if installation.home == "/opt/maker/php81")
    assert (new.branch, new.ini_folder, new.service) == ("8.1", "/opt/maker/php81/root/etc", "php81-php-fpm")
    assert len(programs) == 6


def test_elsewhere_the_programs_are_found_and_collections_too(tmp_path: Path) -> None:
    programs, _ = found(tmp_path, RPM)
    assert {
        (installation.program, installation.sapi, installation.home)
        for installation in programs
        if installation.program.startswith("/usr")
    } == {
        ("/usr/bin/php", "cli", ""),
        ("/usr/bin/php-cgi", "cgi", ""),
        ("/usr/sbin/php-fpm", "fpm", ""),
    }
    assert {installation.home for installation in programs} == {"", "/opt/maker/php74", "/opt/maker/php81"}


OPTIONS = "'./configure'  '--prefix=/usr/local/php' '--with-config-file-path=/etc/observatory' '--with-config-file-scan-dir=/etc/observatory/d' '--sysconfdir=/etc/observatory/fpm'"
UNIT = "[Service]\nExecStart=/usr/local/php/sbin/php-fpm --nodaemonize\n"


def test_what_was_built_from_source_says_itself_where_it_reads(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {
        "usr/local/php/sbin/php-fpm": php(configure=OPTIONS), "usr/local/bin/php8.3": php("8.3.1", configure="/usr/local/lib/x\0"),
        "etc/systemd/system/observatory.service": UNIT, "usr/local/bin/phpize": "#!/bin/sh\n", "usr/local/bin/php-config": php(), "usr/bin/php": php(),
    }  # fmt: skip
    programs, _ = found(tmp_path, files, "debian")
    fpm, cli = sorted(programs, key=lambda installation: installation.program, reverse=True)
    assert (fpm.program, fpm.sapi, fpm.ini_folder, fpm.scan_dirs, fpm.service, fpm.home) == (
        "/usr/local/php/sbin/php-fpm",
        "fpm",
        "/etc/observatory",
        ("/etc/observatory/d",),
        "observatory",
        "/usr/local/php",
    )
    assert (fpm.fpm_config, fpm.serves, fpm.extension_dir) == (
        "/etc/observatory/fpm/php-fpm.conf",
        True,
        "/usr/local/php/lib/php/extensions",
    )
    assert (cli.program, cli.branch, cli.sapi, cli.serves, cli.home, cli.ini_folder, cli.scan_dirs, cli.fpm_config) == (
        "/usr/local/bin/php8.3",
        "8.3",
        "cli",
        False,
        "/usr/local",
        "/usr/local/lib",
        (),
        None,
    )


def test_directories_named_in_the_program_are_found_by_what_they_hold(tmp_path: Path) -> None:
    named = "\0/opt/x/etc\0/opt/x/conf.d\0/opt/x/ext\0"
    files: dict[str, str | bytes] = {
        "opt/x/bin/php": php(configure=named),
        "opt/x/etc/php.ini": "",
        "opt/x/conf.d/a.ini": "",
        "opt/x/ext/a.so": "",
    }
    ((only,), _) = found(tmp_path, files)
    assert (only.ini_folder, only.scan_dirs, only.extension_dir, only.home) == (
        "/opt/x/etc",
        ("/opt/x/conf.d",),
        "/opt/x/ext",
        "/opt/x",
    )


@pytest.mark.parametrize("content", [b"#!/bin/sh\n", b"\x7fELF nothing", php("odd"), php(build=b"")])
def test_what_is_no_php_is_passed_over(tmp_path: Path, content: bytes) -> None:
    assert found(tmp_path, {"usr/local/bin/php": content, "usr/sbin/php-fpm": content}) == ([], [])


@pytest.mark.parametrize(
    ("version", "said"), [("5.6.40", "; its fixes ended 2018-12-31"), ("5.3.3", "; its fixes ended long ago")]
)
def test_php_5_is_not_judged(tmp_path: Path, version: str, said: str) -> None:
    programs, remarks = found(tmp_path, {"usr/local/bin/php": php(version)})
    assert (programs, remarks) == (
        [],
        [f"PHP {version[:3]}: /usr/local/bin/php: in the layout of its time, not judged{said}"],
    )


def test_windows(tmp_path: Path) -> None:
    core = b"MZ" + b"X-Powered-By: PHP/8.3.4\0" + b"\0API20230831,TS,VS16\0"
    files: dict[str, str | bytes] = {
        "PHP/php8ts.dll": core, "PHP/php.exe": core, "PHP/php-cgi.exe": core, "PHP/php8apache2_4.dll": core, "PHP/php.ini-development": "",
        "tools/odd/php8.dll": b"MZ", "Windows/php8.dll": core, "Users/a/php8.dll": core, "a/b/c/d/e/f/php8.dll": core,
    }  # fmt: skip
    programs, remarks = found(tmp_path, files, "windows", windows=True)
    assert {installation.sapi: (installation.program, installation.service) for installation in programs} == {
        "cli": ("/PHP/php.exe", None),
        "cgi": ("/PHP/php-cgi.exe", "W3SVC"),
        "apache2": ("/PHP/php8apache2_4.dll", "Apache2.4"),
    }
    cgi = next(installation for installation in programs if installation.sapi == "cgi")
    assert (cgi.branch, cgi.version, cgi.ini_folder, cgi.extension_dir, cgi.home, cgi.scan_dirs) == (
        "8.3",
        "8.3.4",
        "/PHP",
        "/PHP/ext",
        "/PHP",
        (),
    )
    assert (cgi.build.thread_safe, cgi.build.compiler) == (True, "VS16")
    assert sorted(remarks) == [
        "PHP in /PHP: no php.ini there; php.ini-development was never copied to php.ini: built-in defaults apply",
        "PHP in /tools/odd: php8.dll does not say which PHP it is: not judged",
    ]
    write(tmp_path, {"PHP/PHP.INI": ""})
    assert len(found(tmp_path, {}, "windows", windows=True)[1]) == 1
    assert found(tmp_path, {}, "windows")[0] == []
