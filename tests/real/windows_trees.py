"""Directories as Windows machines have them, with real DLLs and programs that mingw built."""

import atexit
import shutil
from collections.abc import Callable
from functools import cache
from pathlib import Path
from tempfile import mkdtemp

from tests.small_root import write

from .built import build_windows

CORE = """
ENTRY(core, "Core"); ENTRY(standard, "standard"); ENTRY(ctype, "ctype");
__declspec(dllexport) const char *powered = "X-Powered-By: PHP/%s";
__declspec(dllexport) const char *where = "C:\\\\php\\\\ext";
"""
MAIN = "int main(void) { return 0; }"
SAMPLE = """\
[PHP]
; Maximum amount of memory a script may consume
memory_limit = 128M
post_max_size = 8M
upload_max_filesize = 2M
; Directory in which the loadable extensions (modules) reside.
;extension_dir = "./"
; On windows:
;extension_dir = "ext"
;extension=gd
;extension=intl
;zend_extension=opcache
""".replace("\n", "\r\n")
POOLS = """<applicationPools>
      <add name="DefaultAppPool" /><add name="plates" enable32BitAppOnWin64="{small}" />
      <applicationPoolDefaults><processModel identityType="ApplicationPoolIdentity" /></applicationPoolDefaults>
    </applicationPools>"""
SITE = """<site name="{name}" id="{number}"><application path="/" applicationPool="{pool}">
        <virtualDirectory path="/" physicalPath="%SystemDrive%\\inetpub\\{name}" /></application>{more}
      <bindings><binding protocol="http" bindingInformation="*:80:{name}.observatory.example" />
        <binding protocol="https" bindingInformation="*:443:{name}.observatory.example" /></bindings></site>"""
CONFIG = """<?xml version="1.0" encoding="UTF-8"?>
<configuration>
  <system.applicationHost>
    {pools}
    <sites>{sites}</sites>
  </system.applicationHost>
  <system.webServer>
    <globalModules><add name="StaticFileModule" />{feature}</globalModules>
    <fastCgi>{applications}</fastCgi>
    <defaultDocument enabled="true"><files><add value="Default.htm" /><add value="index.php" /></files></defaultDocument>
  </system.webServer>
  <location path="" overrideMode="Allow"><system.webServer>
    <modules><add name="StaticFileModule" />{feature}</modules>
    <handlers accessPolicy="Read, Script">{handlers}
      <add name="StaticFile" path="*" verb="*" modules="StaticFileModule,DefaultDocumentModule" resourceType="Either" />
    </handlers>
  </system.webServer></location>
</configuration>
"""
MODULE = '<add name="FastCgiModule" />'
CONFIG_FILE = "Windows/System32/inetsrv/config/applicationHost.config"


def handler(program: str, name: str = "PHP", more: str = "") -> str:
    """A handler of IIS for PHP files."""
    return f'<add name="{name}" path="*.php" verb="*" modules="FastCgiModule" scriptProcessor="{program}" {more}/>'


def config(
    sites: tuple[str, ...] = ("nightlog",),
    programs: tuple[str, ...] = ("C:\\PHP\\php-cgi.exe",),
    handlers: str | None = None,
    feature: str = MODULE,
    small: str = "false",
    pool: str = "DefaultAppPool",
    more: str = "",
) -> str:
    """The configuration of IIS with these sites."""
    whole = "".join(SITE.format(name=name, number=number, pool=pool, more=more) for number, name in enumerate(sites, 1))
    return CONFIG.format(
        pools=POOLS.format(small=small),
        sites=whole,
        feature=feature,
        applications="".join(f'<application fullPath="{program}" />' for program in programs),
        handlers=handler(programs[0]) if handlers is None else handlers,
    )


@cache
def _built(version: str, api: str, thread_safe: bool, bits: int = 64) -> Path:
    """One PHP, built once."""
    folder = Path(mkdtemp(prefix="php-for-windows-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    ts = {"api": api, "thread_safe": thread_safe, "bits": bits}
    build_windows(folder / f"php8{'ts' if thread_safe else ''}.dll", CORE % version, **ts)  # type: ignore[arg-type]
    for name in ("php.exe", "php-cgi.exe"):
        build_windows(folder / name, MAIN, **ts)  # type: ignore[arg-type]
    for name in ("gd", "intl"):
        body = f'ENTRY({name}, "{name}"); __declspec(dllexport) void *get_module(void) {{ return &{name}; }}'
        build_windows(folder / f"ext/php_{name}.dll", body, **ts)  # type: ignore[arg-type]
    zend = '__declspec(dllexport) struct { const char *n; } zend_extension_entry = { "Zend OPcache" }; const char *id = "API4%s,%s,VS16";'
    body = zend % (api, "TS" if thread_safe else "NTS") + " __declspec(dllexport) const char **keep = &id;"
    build_windows(folder / "ext/php_opcache.dll", body, **ts)  # type: ignore[arg-type]
    if thread_safe:
        build_windows(folder / "php8apache2_4.dll", CORE % version, api, True)
    write(folder, {"php.ini-production": SAMPLE, "php.ini-development": SAMPLE, "ext/libhelper.dll": "MZ no extension"})
    return folder


def php(
    folder: Path, version: str = "8.3.12", api: str = "20230831", thread_safe: bool = False, bits: int = 64
) -> None:
    """A PHP as its archive has it."""
    shutil.copytree(_built(version, api, thread_safe, bits), folder, dirs_exist_ok=True)


def machine(root: Path, files: dict[str, str | bytes]) -> Path:
    """What a drive of Windows has beside PHP."""
    system: dict[str, str | bytes] = {f"Windows/System32/{name}.dll": "MZ" for name in ("kernel32", "vcruntime140")}
    hosts = "# localhost name resolution is handled within DNS itself.\n127.0.0.1 plates.local\n"
    write(root, {**system, "Windows/System32/drivers/etc/hosts": hosts, **files})
    return root


def two_branches(root: Path) -> Path:
    """IIS with two branches and three sites, one of which has another handler in its own file."""
    php(root / "PHP")
    php(root / "Tools/php84", "8.4.3", "20240924")
    own = f"<remove name='PHP' />{handler('C:/Tools/php84/php-cgi.exe'.replace('/', chr(92)), 'PHP84')}"
    web = f"<configuration><system.webServer><handlers>{own}</handlers></system.webServer></configuration>"
    off = (
        "<configuration><system.webServer><handlers><remove name='PHP' /></handlers></system.webServer></configuration>"
    )
    programs = ("C:\\PHP\\php-cgi.exe", "C:\\Tools\\php84\\php-cgi.exe")
    ini = 'extension_dir = "ext"\r\nextension=gd\r\n;extension=intl\r\nmemory_limit = 256M\r\n'
    files: dict[str, str | bytes] = {
        CONFIG_FILE: config(("nightlog", "plates", "dome"), programs),
        "PHP/php.ini": ini,
        "Tools/php84/php.ini": ini,
        "inetpub/nightlog/index.php": "",
        "inetpub/plates/web.config": web,
        "inetpub/dome/web.config": off,
    }
    return machine(root, files)


def unregistered(root: Path) -> Path:
    """A PHP that IIS knows nothing of, its sample never renamed, and the CGI feature is not there either."""
    php(root / "Programs/php83")
    files: dict[str, str | bytes] = {
        CONFIG_FILE: config(programs=("",), handlers="", feature="").replace('<application fullPath="" />', "")
    }
    return machine(root, {**files, "inetpub/nightlog/index.php": ""})


def no_feature(root: Path) -> Path:
    """All is set up but the CGI feature."""
    php(root / "PHP")
    ini = "extension=gd\r\n;extension=intl\r\n"
    return machine(root, {CONFIG_FILE: config(feature=""), "PHP/php.ini": ini, "inetpub/nightlog/index.php": ""})


def thread_safe(root: Path) -> Path:
    """A thread-safe PHP under FastCGI, and an extension that is not."""
    php(root / "PHP", thread_safe=True)
    php(root / "spare")
    shutil.copy(root / "spare/ext/php_gd.dll", root / "PHP/ext/php_gd.dll")
    shutil.rmtree(root / "spare")
    ini = "extension=gd\r\nextension=intl\r\n"
    return machine(root, {CONFIG_FILE: config(), "PHP/php.ini": ini, "inetpub/nightlog/index.php": ""})


def small_handler(root: Path) -> Path:
    """A PHP with 32 bits, with a handler for such, on a pool that has 64."""
    php(root / "PHP", bits=32)
    handlers = handler("C:\\PHP\\php-cgi.exe", more='preCondition="bitness32"')
    ini = "extension=gd\r\n;extension=intl\r\n"
    files: dict[str, str | bytes] = {CONFIG_FILE: config(handlers=handlers, pool="plates"), "PHP/php.ini": ini}
    return machine(root, {**files, "inetpub/nightlog/index.php": ""})


def bundle(root: Path) -> Path:
    """An all-in-one bundle: one php.ini beside the web server's program, and one beside PHP that nothing reads."""
    php(root / "bundle/php", "8.2.20", "20220829", thread_safe=True)
    httpd = (
        'Define BUNDLE "C:/bundle"\nServerRoot "${BUNDLE}/apache"\n'
        'LoadModule php_module "${BUNDLE}/php/php8apache2_4.dll"\nAddHandler application/x-httpd-php .php\n'
        'DocumentRoot "${BUNDLE}/htdocs"\nServerName nightlog.observatory.example\nDirectoryIndex index.php\n'
    )
    return machine(
        root,
        {
            "bundle/apache/bin/httpd.exe": "MZ",
            "bundle/apache/bin/php.ini": 'extension_dir = "C:\\bundle\\php\\ext"\r\nextension=gd\r\n;extension=intl\r\n',
            "bundle/php/php.ini": "extension=gd\r\nextension=intl\r\nmemory_limit = 1G\r\n",
            "bundle/apache/conf/httpd.conf": httpd,
            "bundle/htdocs/index.php": "",
        },
    )


def sample_only(root: Path) -> Path:
    """All is set up in IIS, and the sample was never copied to php.ini."""
    php(root / "Programs/php83")
    program = "C:\\Programs\\php83\\php-cgi.exe"
    return machine(root, {CONFIG_FILE: config(programs=(program,)), "inetpub/nightlog/index.php": ""})


def few_requests(root: Path) -> Path:
    """IIS gives PHP more requests than PHP answers before it ends."""
    php(root / "PHP")
    written = config().replace(
        '<application fullPath="C:\\PHP\\php-cgi.exe" />',
        '<application fullPath="C:\\PHP\\php-cgi.exe" instanceMaxRequests="10000" />',
    )
    ini = "extension=gd\r\nextension=intl\r\n"
    return machine(root, {CONFIG_FILE: written, "PHP/php.ini": ini, "inetpub/nightlog/index.php": ""})


TREES: dict[str, Callable[[Path], Path]] = {
    tree.__name__: tree
    for tree in (two_branches, unregistered, no_feature, thread_safe, small_handler, bundle, sample_only, few_requests)
}
