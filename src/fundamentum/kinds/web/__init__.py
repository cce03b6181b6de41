"""The web server: ``[web]``: that it serves the application, as the application has to be served."""

from collections.abc import Iterator, Mapping
from typing import Annotated, Any

import msgspec

from fundamentum.kinds.base import Context, Kind, Question
from fundamentum.kinds.table_reader import Reader, Table, below, did_you_mean
from fundamentum.kinds.web.need import LIST, NO_FILE, WebNeed, is_module
from fundamentum.kinds.web.verdicts import judged
from fundamentum.model.findings import Finding
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs_value import Level, NotUnderstood, Text
from fundamentum.platforms import names as platform_names
from fundamentum.platforms import platform
from fundamentum.webservers import for_sites, names, webserver


class WebTable(Table):
    """What is wanted of the web server."""

    server: Annotated[
        Text | None, msgspec.Meta(description="Which will do, with | between; any, if nothing is said.")
    ] = None
    document_root: Annotated[
        Text | None, msgspec.Meta(description="The document root, below the application's directory.")
    ] = None
    front_controller: Annotated[
        Text | None,
        msgspec.Meta(description="The script, below the document root, that answers for what is no file."),
    ] = None
    modules: Annotated[list[Text], msgspec.Meta(description='What it needs of the web server: "rewrite".')] = []
    recommended_modules: Annotated[
        list[Text], msgspec.Meta(description="What is of use beside that; alone it asks for nothing else here.")
    ] = []
    deny: Annotated[
        list[Text],
        msgspec.Meta(description="Directories, below the application's own, of which nothing is handed out."),
    ] = []


class Web(Kind[WebNeed]):
    """The web server, its modules, the document root, the front controller, what is never handed out."""

    prefixes = ("web",)
    beyond_php = True
    order = 5
    tables = {"web": WebTable}
    group = "web server"

    def read(self, tables: Mapping[str, Any], reader: Reader) -> Iterator[WebNeed]:
        table = tables["web"]
        modules = list(_modules(table, reader))
        if table == WebTable(recommended_modules=table.recommended_modules):
            yield from modules
            return
        for server in (table.server or "").split("|") if table.server is not None else ():
            if server.strip() not in for_sites():
                hint = did_you_mean(server.strip(), for_sites()) or f"; known: {', '.join(for_sites())}"
                reader.refuse(["web", "server"], f"'{server.strip()}' is no web server{hint}")
        root = _path(table.document_root, "document_root", reader) if table.document_root is not None else ""
        yield WebNeed("served", table.server or "")
        if table.document_root is not None:
            yield WebNeed("document_root", root, root)
        if table.front_controller is not None:
            yield WebNeed("front_controller", _path(table.front_controller, "front_controller", reader), root)
        yield from modules
        for path in table.deny:
            yield WebNeed("deny", _path(path, "deny", reader, path), root)
        yield WebNeed("listing", document_root=root)
        yield WebNeed("home", document_root=root)

    def questions(self, need: WebNeed) -> Iterator[tuple[Question, str]]:
        match need.aspect:
            case "served":
                yield from (("packages", package) for name in names() for package in webserver(name).packages)
                yield "texts", "/proc/net/if_inet6"  # whether a new site can wait for IPv6
                for folders in (platform(name).web_sites for name in platform_names()):
                    yield from (("directories", links) for _, links in folders.values() if links)
                yield from (("texts", path) for name in platform_names() if (path := platform(name).firewall_off[0]))
            case "document_root" if need.value:
                yield "directories", need.value
            case "front_controller":
                yield "visits", NO_FILE
            case "deny":
                yield from (("visits", path) for path in need.addresses)
            case "listing":
                yield "visits", LIST

    def judge(self, need: WebNeed, context: Context) -> Finding:
        return judged(need, context)

    def words(self, need: NeedId) -> str:
        """The need for a person."""
        _, aspect, *about = need.split(":")
        of = about[0] if about else ""
        return {
            "served": "web server",
            "document_root": "document root",
            "front_controller": "front controller",
            "module": f"module {of} of the web server",
            "deny": f"{of} out of visitors' reach",
            "listing": "no listing of directories",
            "home": "a directory of its own",
        }.get(aspect, aspect)

    def met_in_words(self, finding: Finding) -> str:
        return f"{self.words(finding.need)}: {finding.found}"


def _modules(table: WebTable, reader: Reader) -> Iterator[WebNeed]:
    listed: tuple[tuple[Level, str, list[str]], ...] = (
        ("required", "modules", table.modules),
        ("recommended", "recommended_modules", table.recommended_modules),
    )
    seen: set[str] = set()
    for level, key, modules in listed:
        for module in modules:
            if not is_module(module):
                reader.refuse(["web", key], f"'{module}' is no name of a module", module)
            if module in seen:
                reader.refuse(["web", key], f"'{module}' is listed twice", module)
            seen.add(module)
            yield WebNeed("module", module, level=level)


def _path(text: str, key: str, reader: Reader, value: str | None = None) -> str:
    try:
        return below(text)
    except NotUnderstood as error:
        reader.refuse(["web", key], error, value)
        return ""


KIND = Web()
