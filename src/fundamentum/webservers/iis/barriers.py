"""What in the configuration of IIS keeps requests from reaching PHP: the first broken link of the way comes first.

Source: Microsoft's reference of IIS configuration (globalModules, modules, fastCgi, handlers, applicationPools,
requestFiltering, defaultDocument), and php.net, "Installation with IIS".
"""

import posixpath
from collections.abc import Iterator, Sequence
from typing import Any, Final

import msgspec

from fundamentum.hosts.base import Host, HostError, listed
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Barrier
from fundamentum.model.windows_words import windows_line
from fundamentum.php_files import windows_files
from fundamentum.untrusted.numbers import whole
from fundamentum.webservers.iis import commands
from fundamentum.webservers.iis.commands import Words
from fundamentum.webservers.iis.fastcgi import Processor, application
from fundamentum.webservers.iis.levels import Element, Level, option
from fundamentum.webservers.iis.levels import listed as listed_elements
from fundamentum.webservers.iis.sites import Pool, system_files

_ENDS: Final = "PHP_FCGI_MAX_REQUESTS"
_HEAD: Final = 64 * 1024 * 1024
"""Bytes of a library that is looked into."""
_RUNTIME: Final = "vcruntime140.dll"
"""Linked with every build of PHP 7.0 and later."""


class Way(msgspec.Struct, frozen=True):
    """How requests for one address reach PHP."""

    site: str
    """The site as a command names it: with the address below it."""
    levels: Sequence[Level]
    main: Any
    path: str
    """The file of the whole server."""
    pool: Pool | None
    handler: Element
    handed: Processor
    starts: bool = True
    """Whether the site starts with the server."""


def barriers(host: Host, way: Way) -> Iterator[Barrier]:
    """From the feature that has to be there to the document that a bare address means."""
    yield from _feature(way)
    yield from _stopped(way)
    if "%" in way.handed.program:
        return  # a variable of that machine, whose value cannot be read
    if host.stat(way.handed.program) is None:
        why = f"the handler {way.handler.get('name')} names {way.handed.text}, which is not there"
        remedy = f"put PHP there, or let the handler name the php-cgi.exe that is meant ({way.handler.origin})"
        yield Barrier(why, remedy, way.handler.origin)
        return
    yield from _application(host, way)
    yield from _requests(host, way)
    yield from _bits(way)
    yield from _compiler_runtime(host, way.handed.program)
    yield from _policy(way)
    yield from _default_document(way)


def by_command(why: str, words: Words, back: Words, origin: Origin | None, *, stops: bool = True) -> Barrier:
    """A barrier that a command answers."""
    return Barrier(why, windows_line(words), origin, stops=stops, commands=(words,), back=(back,))


def _feature(way: Way) -> Iterator[Barrier]:
    """The part of IIS that speaks FastCGI: installed, where the file lists what is, and among the site's modules."""
    installed = way.main.find("system.webServer/globalModules")
    if installed is None:
        return
    if not any(element.get("name") == commands.MODULE for element in installed.iterfind("add")):
        origin = Origin(way.path, installed.sourceline)
        words, back = commands.feature(), commands.feature(back=True)
        yield by_command("IIS has no CGI feature: nothing runs FastCGI programs", words, back, origin)
        return
    modules = listed_elements(way.levels, "modules", "name")
    if modules and not any(module.get("name") == commands.MODULE for module in modules):
        why = f"{commands.MODULE} is taken off the modules of {way.site}"
        yield Barrier(why, f"let {way.site} have the module {commands.MODULE} again", modules[0].origin)


def _stopped(way: Way) -> Iterator[Barrier]:
    """A site or a pool that somebody stopped does not start with the server either."""
    if not way.starts:
        site = way.site.partition("/")[0]
        words = commands.start_site(site)
        yield Barrier(f"the site {site} is stopped, and does not start with IIS", windows_line(words), Origin(way.path))
    if way.pool and not way.pool.starts:
        words = commands.start_pool(way.pool.name)
        why = f"the pool {way.pool.name} is stopped, and does not start with IIS"
        yield Barrier(why, windows_line(words), way.pool.origin)


def _application(host: Host, way: Way) -> Iterator[Barrier]:
    if application(host, way.levels, way.handed) is None:
        text, arguments = way.handed.text, way.handed.arguments
        words, back = (commands.add_application(text, arguments, back=back) for back in (False, True))
        shown = f"{text} {arguments}".strip()
        yield by_command(f"no FastCGI application is set up for {shown}", words, back, Origin(way.path))


def _requests(host: Host, way: Way) -> Iterator[Barrier]:
    """PHP ends by itself after so many requests; IIS must not give it more before it starts another.

    Source: php.net, "Installation with IIS" (``instanceMaxRequests``); ``PHP_FCGI_MAX_REQUESTS`` is 500 unless set.
    """
    meant = application(host, way.levels, way.handed)
    if meant is None:
        return
    level, element = meant
    given = {
        variable.get("name"): variable.get("value")
        for variable in element.iterfind("environmentVariables/environmentVariable")
    }
    most, before = whole(element.get("instanceMaxRequests") or "200"), given.get(_ENDS)
    ends = whole(before) if before is not None else 500
    if most is None or not ends or most <= ends:
        return
    program, arguments = way.handed.text, way.handed.arguments
    words, back = commands.set_variable(program, arguments, _ENDS, str(most), before)
    why = f"PHP ends after {ends} requests, and IIS gives it {most} before it starts another: some requests fail"
    yield by_command(why, words, back, Origin(level.file, element.sourceline))


def _bits(way: Way) -> Iterator[Barrier]:
    """A handler that is for pools of the other size alone does not count in this one."""
    wanted = way.handler.get("preCondition").lower()
    pool = way.pool
    if pool and "bitness" in wanted and ("bitness64" in wanted) is pool.small:
        size = "32" if pool.small else "64"
        why = f"the pool {pool.name} runs in {size} bits, and the handler counts in the other kind only"
        words, back = (commands.pool_bits(pool.name, small) for small in (not pool.small, pool.small))
        yield by_command(why, words, back, pool.origin)


def _compiler_runtime(host: Host, program: str) -> Iterator[Barrier]:
    """The library that PHP is linked with: there, and not older than the linker.

    Source: ``php_win32_crt_compatible`` in win32/winutil.c, which stops PHP otherwise.
    """
    folder = posixpath.dirname(program)
    core = next((name for name in listed(host, folder) if name.lower() in ("php8.dll", "php7.dll", "php5.dll")), None)
    core = core or next((name for name in listed(host, folder) if name.lower().endswith("ts.dll")), None)
    small = windows_files.processor(_read(host, program)) == "x86"
    system, names = system_files(host, small)
    if "kernel32.dll" not in names:
        return  # only a part of the drive is seen
    own = next((name for name in listed(host, folder) if name.lower() == _RUNTIME), None)
    path = posixpath.join(folder, own) if own else posixpath.join(system, names.get(_RUNTIME, ""))
    bits = "x86" if small else "x64"
    remedy = f"install the Visual C++ redistributable for Visual Studio 2015-2022, {bits}"
    if own is None and _RUNTIME not in names:
        why = f"the runtime of the compiler ({_RUNTIME}) is not installed: php-cgi.exe does not start"
        yield Barrier(why, remedy, Origin(system))
        return
    needed = windows_files.linker(_read(host, posixpath.join(folder, core))) if core else (0, 0)
    version = windows_files.file_version(_read(host, path))
    if version != (0, 0) and version < needed:
        have, want = (".".join(map(str, numbers)) for numbers in (version, needed))
        why = f"the runtime of the compiler ({path}) is {have}, and this PHP was linked with {want}: it does not start"
        yield Barrier(why, f"{remedy}, {want} or later", Origin(path))


def _read(host: Host, path: str) -> bytes:
    try:
        return host.read(path, _HEAD) or b""
    except HostError:
        return b""


def _policy(way: Way) -> Iterator[Barrier]:
    """What the site allows its handlers, and whether it takes requests for PHP files at all."""
    if policy := option(way.levels, "handlers", "accessPolicy"):
        allowed = {word.strip().lower() for word in policy[0].split(",")}
        if not allowed & {"script", "execute"}:
            words, back = (
                commands.of_handlers(way.site, f"accessPolicy:{text}")
                for text in (f"{policy[0].replace(' ', '')},Script", policy[0].replace(" ", ""))
            )
            why = f"{way.site} allows its handlers to read files only (accessPolicy {policy[0]})"
            yield by_command(why, words, back, policy[1])
    for listed_element in listed_elements(way.levels, "security/requestFiltering/fileExtensions", "fileExtension"):
        if listed_element.get("fileExtension").lower() == ".php" and listed_element.get("allowed").lower() == "false":
            why = "requests for files that end in .php are refused (requestFiltering)"
            yield Barrier(why, f"take the line at {listed_element.origin} out", listed_element.origin)


def _default_document(way: Way) -> Iterator[Barrier]:
    """Whether a bare address means ``index.php``, where anything is said of that."""
    files = [
        listed_element.get("value").lower()
        for listed_element in listed_elements(way.levels, "defaultDocument/files", "value")
    ]
    if files and "index.php" not in files:
        why = "the address of the site alone is not answered by index.php, which is no default document"
        words, back = (commands.default_document(way.site, "index.php", back=back) for back in (False, True))
        yield by_command(why, words, back, Origin(way.path), stops=False)
