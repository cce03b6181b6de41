"""Samples of the configuration and of the environment that an application is set up with: which drivers they choose.

``.env.example`` (``DB_CONNECTION=pgsql``), ``config.sample.php`` (``$config['db']['driver'] = 'mysql';``),
``config.ini.dist`` (``[database] type = mysqli``), ``database.yaml`` (``driver: pdo_pgsql``).
"""

import re
from collections.abc import Iterator
from itertools import islice
from typing import Final

from fundamentum.derive.beside.files_beside import files_in, texts_of
from fundamentum.derive.families import DATABASES
from fundamentum.derive.result import Entry, Place
from fundamentum.model.needs_value import Level

MAX_FILES: Final = 30
_FOLDERS: Final = ("", "config", "conf", "etc", "app/config", "config/packages", "includes", "inc", "sites/default")
_NAMES: Final = re.compile(
    r"\.?env(?:\.(?:example|dist|sample|prod|production|local))?|"
    r"[\w.-]*(?:config|configuration|settings|parameters|database|local)[\w.-]*?[._-]?"
    r"(?:sample|dist|example|default|template|tpl|inc)[\w.-]*|"
    r"(?:default|sample|example|dist)[._-][\w.-]*(?:config|configuration|settings)[\w.-]*|"
    r"[\w-]+[._-](?:sample|dist|example|default)\.(?:ini|ya?ml|json|php|toml|conf|xml)|"
    r"[\w-]+\.(?:ini|ya?ml|json|php|toml|conf|xml)[._-](?:sample|dist|example|default|tpl)|"
    r"(?:database|dbal|db|cache|session|queue)\.(?:php|ya?ml|ini|json|neon|toml)|"
    r"(?:common|config|local|parameters)[\w.-]*?\.neon",
    re.I,
)
_PACKAGES: Final = re.compile(r"[\w.-]+\.ya?ml")
"""In a directory with a file for each package that is configured, each may choose."""
_ASSIGNED: Final = re.compile(
    r"(?<!\w)(?P<last>[A-Za-z_]\w{0,40}+)['\"]?\]?\s*+(?:=>?|:|,)\s*+"
    r"['\"]?(?:[a-z]{1,20}\.){0,2}(?P<value>[A-Za-z][\w+-]{0,20})(?:://|['\"]?\s*(?:[;,)}\]#]|//|$)|:)",
)
_BEFORE: Final = re.compile(r"[\w'\"\]\[{}: .=>-]{0,80}\Z")
"""What stands before the last part of a key: ``config['db']['``"""
_OPENED: Final = re.compile(r"<([A-Za-z][\w-]*+)>")
_CLOSED: Final = re.compile(r"</[\w-]++>")
"""The marks of XML, as which a key may be written: ``<driver>pgsql</driver>``"""
_KEY: Final = re.compile(
    r"(?:^|_)(?:db|database|sql)_?(?:connection|driver|type|url|dsn|engine|adapter|backend|dbms)$|"
    r"^(?:dbtype|dbdriver|dbms|dbengine)$|^(?:DATABASE_URL|DB_DSN)$|^dsn$",
    re.I,
)
_KEY_BELOW: Final = re.compile(r"^(?:driver|type|engine|adapter|backend|connection|default|dbms)$", re.I)
_ABOUT_DATABASE: Final = re.compile(r"(?<![a-z])(?:db|databases?|dbal|sql|pdo|connections?)(?![a-z])", re.I)
_STORE: Final = re.compile(
    r"(?:cache|session|queue|broadcast)_?(?:driver|store|connection|url|dsn|handler|backend|adapter)$|"
    r"^REDIS_URL$|^MESSENGER_\w+_DSN$|(?:redis|memcached)_(?:url|dsn|provider)$",
    re.I,
)
_STORE_BELOW: Final = re.compile(r"^(?:driver|type|engine|adapter|backend|handler|store|default|app)$", re.I)
_ABOUT_STORE: Final = re.compile(r"\W*(?:cache|session|queue|lock)s?\W*", re.I)
"""The whole of the line that opens a section: within a list of several, all that it names is only on offer."""
_OPENS_STORE: Final = re.compile(
    r"(?<![A-Za-z])(?:cache|session|queue|lock)s?['\"]?\]?(?:\s*(?:=>|:)\s*)?[\[{]\s*['\"]?\Z", re.I
)
"""The same within one line: ``'session' => ['handler' =>``, ``['session']['handler'] =``"""
_IMAGES: Final = re.compile(
    r"(?:image|graphic|thumbnail)s?_?(?:library|lib|driver|engine|handler|backend|processor)$", re.I
)
_IMAGES_BELOW: Final = re.compile(r"(?:library|lib|driver|engine|handler|backend|processor)$", re.I)
_ABOUT_IMAGES: Final = re.compile(r"\W*(?:image|graphic|thumbnail)s?\W*", re.I)
_OF_IMAGES: Final = frozenset({"gd", "imagick", "gmagick"})
_DRIVERS: Final = {
    "mysql": "pdo_mysql", "mysqli": "mysqli", "mariadb": "pdo_mysql", "pdo-mysql": "pdo_mysql",
    "pdo_mysql": "pdo_mysql", "pgsql": "pdo_pgsql", "pdo_pgsql": "pdo_pgsql",
    "postgres": "pdo_pgsql", "postgresql": "pdo_pgsql",
    "sqlite": "pdo_sqlite", "sqlite3": "pdo_sqlite", "pdo_sqlite": "pdo_sqlite",
}  # fmt: skip
_STORES: Final = {"rediss": "redis", "apc": "apcu", **{name: name for name in ("redis", "memcached", "apcu", "amqp")}}
CHOSEN: Final = "a sample of its configuration chooses it"
OFFERED: Final = "samples of its configuration offer these: any one will do"
_COMMENTS: Final = ("#", ";", "//", "*", "/*")


def offered_databases(root: str, base: str) -> dict[str, Place]:
    """The extensions for databases that samples choose or offer, each with the first place."""
    offered: dict[str, Place] = {}
    for extension, place in _choices(root, base.strip("/")):
        if extension in _DRIVERS.values() and not _already(extension, set(offered)):
            offered[extension] = place
    return offered


def chosen_drivers(root: str, base: str, named: frozenset[str]) -> Iterator[Entry]:
    """The extensions that samples choose, but those that are ``named`` by something else already.

    Of several databases that samples offer any one will do; it is required where the source connects to a database of
    which it does not say the kind.
    """
    seen = set(named)
    databases: dict[str, Place] = {}
    for extension, place in _choices(root, base.strip("/")):
        if _already(extension, seen):
            continue
        seen.add(extension)
        if extension in _DRIVERS.values():
            databases[extension] = place
        else:
            yield Entry("extension", (extension,), "recommended", "", CHOSEN, (place,))
    if len(databases) > 1 and named.isdisjoint(DATABASES):
        level: Level = "required" if "pdo" in named else "recommended"
        yield Entry("extension", tuple(databases), level, "", OFFERED, tuple(databases.values()))
        return
    yield from (Entry("extension", (name,), "recommended", "", CHOSEN, (place,)) for name, place in databases.items())


def _choices(root: str, top: str) -> Iterator[tuple[str, Place]]:
    """Each extension that a sample sets a driver to, with the place."""
    for path, text in texts_of(root, islice(_files(root, top), MAX_FILES)):
        file = path.rpartition("/")[2].partition(".")[0]
        about = ""
        for number, line in enumerate(text.splitlines(), 1):
            plain = _CLOSED.sub("", _OPENED.sub(r"\1: ", line)).strip()
            if not plain or plain.startswith(_COMMENTS):
                continue
            about = plain if plain.endswith((":", "]", "[", "(", "=>", "{")) else about
            for match in _ASSIGNED.finditer(plain):
                found = _BEFORE.search(plain[max(match.start() - 80, 0) : match.start()])
                before, value = found[0] if found else "", match["value"].lower()
                extension = _chosen(match["last"], f"{file} {about} {before}{match['last']}", value)
                extension = extension or _kept_in(match["last"], about, before, value)
                if extension:
                    what = f"{match['last']}={match['value']}"  # and no more of the line: it may hold a password
                    yield extension, Place(path, number, what, "the sample chooses it")


def _files(root: str, top: str) -> Iterator[str]:
    for folder, path in files_in(root, top, _FOLDERS):
        chosen = _PACKAGES if folder == "config/packages" else _NAMES
        if chosen.fullmatch(path.rpartition("/")[2]):
            yield path


def _already(extension: str, seen: set[str]) -> bool:
    """Whether it, or the other driver for the same database, is known."""
    same = {"pdo_mysql": "mysqli", "pdo_pgsql": "pgsql", "pdo_sqlite": "sqlite3", "mysqli": "pdo_mysql"}
    return extension in seen or same.get(extension, extension) in seen


def _chosen(key: str, about: str, value: str) -> str:
    """The extension for what a key is set to; empty where that chooses none."""
    if _KEY.search(key) or (_KEY_BELOW.match(key) and _ABOUT_DATABASE.search(about)):
        return _DRIVERS.get(value, "")
    if _IMAGES.search(key):
        return value if value in _OF_IMAGES else ""
    return _STORES.get(value, "") if _STORE.search(key) else ""


def _kept_in(key: str, heading: str, before: str, value: str) -> str:
    """The same of a key below a heading, or behind another key, that tells what is kept there: ``[cache]``"""
    if _IMAGES_BELOW.match(key) and _ABOUT_IMAGES.fullmatch(heading):
        return value if value in _OF_IMAGES else ""
    about = _ABOUT_STORE.fullmatch(heading) or _OPENS_STORE.search(before)
    return _STORES.get(value, "") if _STORE_BELOW.match(key) and about else ""
