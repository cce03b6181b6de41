"""What the uploaded PHP file answered, as a survey: one runtime and one site, as a visitor's request meets them."""

import re
from typing import Annotated, Final, Literal

import msgspec

from fundamentum import webservers
from fundamentum.catalog import canonical
from fundamentum.errors import InputError
from fundamentum.hosts.information_page import API
from fundamentum.model.installation import branch_in
from fundamentum.model.origin import Origin
from fundamentum.model.php import Branch, Loaded, Runtime, Sapi, Setting
from fundamentum.model.remark import Remark
from fundamentum.model.safe_text import is_directive, is_plain
from fundamentum.model.surrounding_facts import Asked, Place
from fundamentum.model.survey import FORMAT, Site, Survey
from fundamentum.model.system import System
from fundamentum.untrusted.secrets import without_secrets

MAX_ANSWER: Final = 4 * 1024 * 1024
MAX_NAMES: Final = 5000
ORIGIN: Final = Origin("what PHP itself said")
_SAPIS: Final[dict[str, Sapi]] = {"fpm-fcgi": "fpm", "apache2handler": "apache2", "cgi-fcgi": "cgi", "cli": "cli"}

Names = Annotated[tuple[str, ...], msgspec.Meta(max_length=MAX_NAMES)]


class Answered(msgspec.Struct):
    """The document that the file writes."""

    format: Literal[1]
    taken: int
    file: str
    version: str
    sapi: str
    host: str
    web_server: str
    system: str
    machine: str
    thread_safe: bool
    debug: bool
    build: str
    ini_file: str
    extensions: Names
    settings: dict[str, str]
    functions: dict[str, bool]
    places: dict[str, Literal["absent", "writable", "read-only", "file"]]
    told: dict[str, str] = {}


def survey_upload(data: bytes, where: str) -> Survey:
    """The survey of the runtime that answered; a clear error if this is no such answer."""
    if len(data) > MAX_ANSWER:
        raise InputError(where, f"larger than {MAX_ANSWER} bytes; no answer of the uploaded file")
    try:
        said = msgspec.json.decode(data, type=Answered)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(where, f"is no answer of the uploaded file: {error}") from error
    branch = branch_in(said.version)
    if branch is None or max(len(said.settings), len(said.places)) > MAX_NAMES:
        raise InputError(where, "is no answer of the uploaded file: it names no version of PHP, or too much")
    runtime = _runtime(said, branch)
    match = API.search(said.build)
    directory = said.settings.get("extension_dir", "")
    return Survey(
        format=FORMAT,
        server=said.host or "server of the upload",
        system=System(family="page", name=f"{said.system}, by what PHP told a visitor", architecture=said.machine),
        taken=said.taken,
        reader="user",
        branches=(
            Branch(
                branch,
                match[2] if match else "",
                directory,
                thread_safe=said.thread_safe,
                debug=said.debug,
                system="Windows" if said.system.startswith("WIN") else "Linux",
                compiler=(match and match[5]) or "",
            ),
        ),
        runtimes=(runtime,),
        sites=(_site(said, runtime),),
        places=tuple(_place(path, what) for path, what in said.places.items()),
        asked=Asked(directories=tuple(said.places)) if said.places else None,
        remarks=(
            Remark("packages", "PHP does not tell what is installed, or could be: unknown"),
            Remark("information page", f"remove {said.file}: it has done its work"),
        ),
    )


def _runtime(said: Answered, branch: str) -> Runtime:
    gone = [name for name, there in said.functions.items() if not there and is_directive(name)]
    settings = {
        name: Setting(without_secrets(name, value), ORIGIN)
        for name, value in said.settings.items()
        if is_directive(name)
    }
    if gone:  # whichever place takes them away, and whether PHP shows it or not
        shown = settings["disable_functions"].value if "disable_functions" in settings else ""
        together = dict.fromkeys([*filter(None, (shown or "").split(",")), *gone])
        settings["disable_functions"] = Setting(",".join(together), ORIGIN)
    return Runtime(
        branch=branch,
        sapi=_SAPIS.get(said.sapi, "other"),
        version=said.version[:60],
        serves=True,
        ini_file=said.ini_file or None,
        settings=dict(sorted(settings.items())),
        extensions=tuple({canonical(name): Loaded(canonical(name), name, ORIGIN) for name in said.extensions}.values()),
        told={key[:120]: value[:120] for key, value in list(said.told.items())[:MAX_NAMES]},
    )


def _site(said: Answered, runtime: Runtime) -> Site:
    word = re.split(r"[/ ]", said.web_server.lower(), maxsplit=1)[0]
    server = next((server for server in webservers.names() if webservers.webserver(server).calls_itself == word), word)
    root = re.split(r"[/\\](?=[^/\\]*$)", said.file)[0] or "/"
    name = said.host.partition(":")[0] or "default"
    return Site(name, server if is_plain(server) else "unknown", ORIGIN, root=root, runtime=runtime.label)


def _place(path: str, what: Literal["absent", "writable", "read-only", "file"]) -> Place:
    if what == "absent" or what == "file":
        return Place(path, what)
    return Place(path, "directory", said=what)
