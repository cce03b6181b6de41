"""Ask running sites what they really have: each over FastCGI with its own parameters, or over HTTP.

Without a file of ours in the document root, what PHP reads along the way to a script (``.user.ini``, ``[PATH=]``) does
not count: a script elsewhere does not meet it.  With one it does, and a module in a web server can be asked too.
"""

import http.client
import os
import secrets
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, Final

from msgspec.structs import replace

from fundamentum.catalog.setting_line import ini_text
from fundamentum.effective.site_configuration import for_site
from fundamentum.hosts.base import HostError
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.layers import Layer
from fundamentum.model.php import Answer, Runtime
from fundamentum.model.remark import Remark
from fundamentum.model.survey import Site, SiteAnswer, Survey
from fundamentum.survey.pool_answers import (
    MAX_ANSWER,
    TIMEOUT,
    NoAnswer,
    beneath,
    connected,
    parsed,
    put_script,
    request,
)
from fundamentum.survey.pool_answers import script as script_elsewhere

ASKINGS: Final = 3
"""Times that each site is asked, so that more than one of its processes answers."""
MAX_SITES: Final = 200
MAX_DIFFERENCES: Final = 10
_SENT: Final = {"request": "PHP_VALUE", "request-admin": "PHP_ADMIN_VALUE"}


def ask_sites(survey: Survey, root: Path, *, with_file: bool) -> Survey:
    """The survey with what each site said of itself; a remark for each that could not be asked, or says otherwise."""
    by_label = {runtime.label: runtime for runtime in survey.runtimes}
    remarks: list[Remark] = []
    host = DirectoryHost(root, "")
    sites = []
    for number, site in enumerate(survey.sites):
        runtime = by_label.get(site.runtime or "")
        if runtime and number < MAX_SITES and (with_file or runtime.sapi == "fpm"):
            try:
                site = replace(site, answer=_asked(site, runtime, host, with_file=with_file))
            except (NoAnswer, HostError, OSError, http.client.HTTPException) as error:
                remarks.append(Remark("asking pools", f"{site.name} could not be asked: {error}"))
        sites.append(site)
    for old, new in zip(survey.sites, sites, strict=True):
        if new.answer:
            remarks += _differences(old, new.answer, by_label[new.runtime or ""], survey.sites)
    return replace(survey, sites=tuple(sites), remarks=(*survey.remarks, *remarks))


def _asked(site: Site, runtime: Runtime, host: DirectoryHost, *, with_file: bool) -> SiteAnswer:
    """What several processes of the site agree on."""
    if not hasattr(os, "O_PATH"):
        raise NoAnswer("this system does not let links be ruled out: ask on the server itself")
    if any(layer.unread for layer in site.layers if layer.kind in _SENT):
        raise NoAnswer("what is sent along with its requests depends on each of them")
    if any(layer.unread and _stands_elsewhere(layer, site) for layer in site.layers):
        raise NoAnswer("its requests meet files of other directories than its document root's")
    if runtime.chroot:
        raise NoAnswer(f"it is shut into {runtime.chroot}")
    place = _in_root(site, host) if with_file else script_elsewhere(runtime, host)
    with place as path:
        if runtime.sapi == "fpm":
            answers = [_over_fastcgi(site, runtime, host, path) for _ in range(ASKINGS)]
        else:
            answers = [_over_http(site, path) for _ in range(ASKINGS)]
    first, *others = answers
    same = {
        name: value
        for name, value in first.settings.items()
        if all(other.settings.get(name) == value for other in others)
    }
    return SiteAnswer(first.extensions, same, with_file)


def _stands_elsewhere(layer: Layer, site: Site) -> bool:
    """Whether what PHP reads along the way to a script is decided outside of the document root."""
    return layer.kind == "user-ini" and not layer.origin.file.startswith(f"{(site.root or '').rstrip('/')}/")


@contextmanager
def _in_root(site: Site, host: DirectoryHost) -> Iterator[str]:
    """The script in the document root for a moment, under a name that nobody guesses."""
    if not site.root or not site.root.startswith("/"):
        raise NoAnswer("its document root is not known")
    folder = beneath(host, site.root, os.O_DIRECTORY)
    name = f"fundamentum-{secrets.token_hex(16)}.php"
    try:
        put_script(folder, name)
        yield f"{site.root.rstrip('/')}/{name}"
    finally:
        with suppress(OSError):
            os.unlink(name, dir_fd=folder)
        os.close(folder)


def _over_fastcgi(site: Site, runtime: Runtime, host: DirectoryHost, path: str) -> Answer:
    parameters = {
        "REQUEST_METHOD": "GET",
        "SCRIPT_FILENAME": path,
        "SCRIPT_NAME": f"/{path.rpartition('/')[2]}",
        "DOCUMENT_ROOT": site.root or "",
        "SERVER_NAME": site.name,
        "HTTP_HOST": site.name,
    }
    for kind, variable in _SENT.items():
        values = [assignment for layer in site.layers if layer.kind == kind for assignment in layer.values]
        text = "\n".join(f"{assignment.name}={ini_text(assignment.value or '') or ''}" for assignment in values)
        parameters |= {variable: text} if text else {}
    with connected(host, runtime.listen or "") as connection:
        return parsed(request(connection, parameters))


def _over_http(site: Site, path: str) -> Answer:
    """Asked as a visitor asks, of this machine alone."""
    if site.local_port is None:
        raise NoAnswer(f"{site.address or 'where it waits'} is not asked: only plain HTTP of this machine itself is")
    connection = http.client.HTTPConnection("127.0.0.1", site.local_port, timeout=TIMEOUT)
    try:
        connection.request("GET", f"/{path.rpartition('/')[2]}", headers={"Host": site.name})
        answer = connection.getresponse()
        return parsed(answer.read(MAX_ANSWER))
    finally:
        connection.close()


def _differences(site: Site, answer: SiteAnswer, runtime: Runtime, sites: Sequence[Site]) -> Iterator[Remark]:
    """Where the running site says something else than its files: our mistake, or a place that is not read here."""
    neighbours = [other for other in sites if other.runtime == runtime.label]
    view = for_site(runtime, site, neighbours)
    comparable: dict[str, Any] = answer.comparable(view)
    asked_so_far = 0
    for name, value in comparable.items():
        setting = view.settings.get(name)
        if setting is None or setting.value in (None, value) or setting.origin.set_in in runtime.stale:
            continue
        asked_so_far += 1
        if asked_so_far <= MAX_DIFFERENCES:
            said = f"{site.name}: {name} is {value or 'empty'} in the running site"
            yield Remark(
                "asking pools", f"{said}, {setting.value or 'empty'} by what was read ({setting.origin})", name
            )
