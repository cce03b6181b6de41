"""An information page (``phpinfo()``, saved as HTML or text) or the output of ``php -i`` as a survey.

It tells what one runtime is and has; it does not tell what is installed or could be, which therefore stays unknown.
The environment and the request's variables, which such pages also show, are passed over.
"""

import re
from typing import Any, Final

import msgspec
from lxml import etree, html

from fundamentum.catalog import canonical
from fundamentum.catalog.libraries import of_page
from fundamentum.errors import InputError
from fundamentum.lazy_regex import lazy_regex
from fundamentum.model.installation import branch_in
from fundamentum.model.origin import Origin, Overridden
from fundamentum.model.php import Branch, Loaded, Runtime, Sapi, Setting
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive
from fundamentum.model.survey import FORMAT, Survey
from fundamentum.model.system import System
from fundamentum.untrusted.secrets import without_secrets

MAX_PAGE: Final = 8 * 1024 * 1024
MAX_TAGS: Final = 300_000
"""Ten times what the page of a PHP with every extension has."""
MAX_CELL: Final = 64 * 1024
MAX_NAMES: Final = 5000
"""Modules, and directives, of one page."""
ORIGIN: Final = "information page"
_SAPIS: Final[dict[str, Sapi]] = {
    "FPM/FastCGI": "fpm",
    "Apache 2.0 Handler": "apache2",
    "Apache 2 Handler": "apache2",
    "Command Line Interface": "cli",
    "CGI/FastCGI": "cgi",
}
_SIGN: Final = lazy_regex(rb"PHP Version\s*(?:=>|</|\d)|<title>[^<]*phpinfo\(\)")
_NOT_MODULES: Final = frozenset(
    {
        "environment",
        "php variables",
        "php license",
        "php credits",
        "additional modules",
        "configuration",
        "http headers information",
        "apache environment",
    }
)
_LIST_TITLE: Final = "Module Name"
_ZEND: Final = lazy_regex(r"^[^\S\n]*with (?P<name>[^,\n]{1,80}?) v[0-9][^,\n]*,", re.M)
API: Final = lazy_regex(r"API(\d?)(\d{8}),(NTS|TS)(,debug)?(?:,(V[CS]\d+))?")


_MODULE: Final = lazy_regex(r"[A-Za-z][A-Za-z0-9_ .+-]{0,60}")
"""The name of an extension, as a page heads its table with it."""


class _Page(msgspec.Struct):
    """What stands on a page: facts in front of the modules, the modules, and the directives."""

    facts: dict[str, str] = msgspec.field(default_factory=dict)
    modules: list[str] = msgspec.field(default_factory=list)
    directives: dict[str, tuple[str, str]] = msgspec.field(default_factory=dict)
    engine: str = ""
    told: dict[str, str] = msgspec.field(default_factory=dict)


def is_page(data: bytes) -> bool:
    """Whether these bytes look like an information page."""
    return _SIGN.search(data[: 256 * 1024]) is not None


def survey_page(data: bytes, where: str, address: str | None = None) -> Survey:
    """The survey of the one runtime that a page tells of.  ``address``: where it answered."""
    if len(data) > MAX_PAGE:
        raise InputError(where, f"larger than {MAX_PAGE} bytes; no information page")
    page = _html(data) if re.search(rb"<h1|<table", data, re.I) else _text(data.decode("utf-8", "replace"))
    version = page.facts.get("PHP Version", "").split()
    branch = branch_in(version[0]) if version else None
    if not version or branch is None:
        raise InputError(where, "shows no PHP version; is it a whole information page?")
    build = API.search(page.facts.get("PHP Extension Build", ""))
    sapi = _SAPIS.get(page.facts.get("Server API", ""), "other")
    system = page.facts.get("System", "").split()
    remarks = [Remark("packages", "an information page does not tell what is installed, or could be: unknown")]
    if address:
        why = f"{address} shows the server's inner life to whoever asks: remove the page when you are done"
        remarks.append(Remark("information page", why))
    ini_file = page.facts.get("Loaded Configuration File", "")
    directory = page.directives.get("extension_dir", ("", ""))[0]
    zend = [match["name"].strip() for match in _ZEND.finditer(page.engine)]
    names = list(dict.fromkeys([*page.modules, *zend]))[:MAX_NAMES]
    runtime = Runtime(
        branch=branch,
        sapi=sapi,
        version=version[0][:60],
        serves=sapi != "cli",
        ini_file=ini_file if ini_file.startswith("/") else None,
        settings={name: _setting(name, *values) for name, values in sorted(page.directives.items())},
        extensions=tuple({canonical(name): Loaded(canonical(name), name, Origin(ORIGIN)) for name in names}.values()),
        told=page.told,
    )
    return Survey(
        format=FORMAT,
        server=system[1] if len(system) > 1 else "server of the page",
        system=System(
            family="page",
            name=f"{system[0]}, by its information page" if system else "known by its information page",
            architecture=system[-1] if len(system) > 1 else "",
        ),
        branches=(
            Branch(
                branch,
                build[2] if build else "",
                directory,
                thread_safe=bool(build and build[3] == "TS"),
                debug=bool(build and build[4]),
                system="Windows" if system[:1] == ["Windows"] else "Linux",
                compiler=(build and build[5]) or "",
            ),
        ),
        runtimes=(runtime,),
        remarks=tuple(remarks),
    )


def _setting(name: str, local: str, master: str) -> Setting:
    lost = (Overridden(Origin(f"{ORIGIN}, master value"), without_secrets(name, master)),) if master != local else ()
    return Setting(without_secrets(name, local), Origin(ORIGIN), lost)


def _value(text: str) -> str:
    """A value as PHP holds it, where the page shows it in another way."""
    shown = re.sub(r"</?(?:font|span|i)\b[^>]*>", "", text.strip())
    return {"no value": "", "(none)": "", "On": "1", "Off": "0", "Unlimited": "-1"}.get(shown, shown)


def _take(page: _Page, module: str | None, cells: list[str], in_directives: bool) -> None:
    if module is not None and module.lower() in _NOT_MODULES:
        return
    if len(cells) == 3 and in_directives:
        name = cells[0].strip()
        if is_directive(name) and len(page.directives) < MAX_NAMES:
            page.directives.setdefault(name, (_value(cells[1]), _value(cells[2])))
    elif len(cells) == 2 and module is None:
        page.facts.setdefault(cells[0].strip(), _value(cells[1]))
    elif len(cells) == 2 and module is not None:
        page.told |= of_page(module, cells[0].strip(), cells[1].strip()[:120])


def _html(data: bytes) -> _Page:
    page = _Page()
    if data.count(b"<") > MAX_TAGS:
        return page
    try:
        tree = html.document_fromstring(
            data, parser=html.HTMLParser(encoding="utf-8", huge_tree=False, no_network=True)
        )
    except (etree.ParserError, etree.XMLSyntaxError, ValueError):
        return page
    module: str | None = None
    body = tree.find("body")
    for element in (body if body is not None else tree).iter("h1", "h2", "table"):
        if element.tag in ("h1", "h2"):
            title = element.text_content().strip()
            version = re.match(r"PHP Version\s+(\S+)", title)
            if version:
                page.facts.setdefault("PHP Version", version[1])
            else:
                module = title
                named = element.tag == "h2" and _MODULE.fullmatch(title) and title.lower() not in _NOT_MODULES
                page.modules += [title] if named else []
        else:
            _table(page, module, element)
    return page


def _table(page: _Page, module: str | None, table: Any) -> None:
    in_directives = False
    for row in table.iter("tr"):
        if next(row.iter("table", "h1", "h2"), None) is not None:
            continue  # of a damaged page: a row that swallowed others, and whatever stands in them
        cells = [cell.text_content()[:MAX_CELL].replace("\xa0", " ") for cell in row.iterchildren("td", "th")]
        words = [cell.strip() for cell in cells]
        if words[:1] == ["Directive"]:
            in_directives = True
        elif len(cells) == 1 and "Zend" in cells[0] and module is None:
            page.engine += "\n".join(row.itertext()).replace("\xa0", " ")
        elif len(cells) == 1 and (module or "").lower() == "additional modules":
            page.modules += [words[0]] if _MODULE.fullmatch(words[0]) and words[0] != _LIST_TITLE else []
        else:
            _take(page, module, cells, in_directives)


def _text(text: str) -> _Page:
    page = _Page()
    module: str | None = None
    in_directives = False
    lines = text.replace("\r\n", "\n").split("\n")
    for at, line in enumerate(lines):
        cells = line.split(" => ")
        alone = 0 < at < len(lines) - 1 and not lines[at - 1].strip() and not lines[at + 1].strip()
        if len(cells) == 1 and (alone or (module or "").lower() == "additional modules") and line.strip():
            if _MODULE.fullmatch(line.strip()):
                title = line.strip()
                known_list = (module or "").lower() == "additional modules"
                if title.lower() not in _NOT_MODULES and title != _LIST_TITLE:
                    page.modules.append(title)
                if not known_list or title.lower() in _NOT_MODULES:
                    module, in_directives = title, False
        elif line.startswith("Directive => "):
            in_directives = True
        elif len(cells) == 1:
            page.engine += line + "\n" if module is None else ""
        else:
            padded = [*cells[:2], " => ".join(cells[2:])] if len(cells) > 3 else cells
            _take(page, module, padded, in_directives)
    return page
