"""Files that list what an application requires for its own installer, as JSON, YAML, TOML, NEON, XML or INI.

``{"php": "8.1", "extensions": ["intl", "gd"], "recommended": {"extensions": ["apcu"]}}``
"""

import re
import tomllib
from collections.abc import Iterator
from typing import Any, Final

import msgspec

from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.model.needs_value import Level
from fundamentum.untrusted.xml import parsed
from fundamentum.untrusted.yaml_document import document

NAMES: Final = re.compile(
    r"(?:php|sys(?:tem)?|server|install(?:er)?)?[-_.]?(?:require(?:ments?|s)?|checks)\.(?:json|ya?ml|xml|ini|toml|neon)|"
    r"environment\.xml",
    re.I,
)
"""How they are called."""
FOLDERS: Final = (
    "install", "installer", "installation", "setup", "config", "conf", "etc", "requirements", "admin", "app",
    "app/config", "resources", "data",
)  # fmt: skip
"""Where they stand beside the top."""
_PHP: Final = re.compile(r"php(?:[-_ ]?version)?|(?:min(?:imum)?[-_ ]?)?php[-_ ]?(?:version|min(?:imum)?)?", re.I)
_PHP_MOST: Final = re.compile(r"php[-_ ]?max(?:imum)?(?:[-_ ]?version)?|max(?:imum)?[-_ ]?php(?:[-_ ]?version)?", re.I)
_SETTING: Final = re.compile(
    r"(?:[;#].*+)?|\[(?P<section>[^\]]++)\].*+|(?P<key>[^=\[]*[^=\[\s])(?:\[['\"]?(?P<of>[^\]'\"]*+)['\"]?\])?\s*+=\s*+"
    r"(?:(['\"])(?P<text>(?:(?!\4).)*+)\4\s*+(?:;.*+)?|(?P<plain>[^;]*+)(?:;.*+)?)"
)
"""A line of an INI file: nothing, a section, or a setting."""
_WORDS: Final = {
    **dict.fromkeys(("on", "yes", "true"), True),
    **dict.fromkeys(("off", "no", "false", "none", "0"), False),
}
_LEVEL: Final = r"required|mandatory|recommended|optional|suggested"
_EXTENSIONS: Final = re.compile(
    rf"(?:(?:{_LEVEL})[-_ ]?)?(?:(?:php[-_ ]?)?ext(?:ension)?s?|php[-_ ]?modules?)(?:[-_ ]?(?:{_LEVEL}))?", re.I
)
_EXT: Final = re.compile(r"(?:ext-|php-ext/)([\w-]+)$")
"""A key as manifests of the package manager have it: ``"ext-curl": "*"``"""
_EXTENSION: Final = re.compile(r"(?:php[-_]?)?ext(?:ension)?", re.I)
_OPEN: Final = re.compile(r"recommend|optional|suggest", re.I)
_HARD: Final = re.compile(r"requir|mandator", re.I)
_VERSION: Final = re.compile(r"(?:[<>=^~!]+\s*)?\d{1,2}(?:\.\d{1,3}){0,2}(?:[ |,<>=^~!*.x\d-]*)")
VERSION_NUMBERS: Final = re.compile(r"\d{1,2}(?:\.\d{1,3}){0,2}")
_REQUIRES: Final = re.compile(r"requires?|requirements|dependencies|prerequisites|platform|engines", re.I)
"""Keys of a manifest below which it tells what it requires."""
_LEAST: Final = re.compile(r"php|(?:requires|min|minimum)_php|php_version", re.I)
"""Keys of a manifest with a version of PHP."""
BOUNDS: Final = (
    ("min-version", "min_version", "min", "minimum", "version"),
    ("max-version", "max_version", "max", "maximum"),
)
"""How elements and attributes are called that hold the lowest version, and the highest."""
_YES: Final = frozenset({"true", "yes", "1"})
_NO: Final = frozenset({"false", "no", "0"})
MAX_DEPTH: Final = 5


def requirements(data: bytes, path: str) -> Iterator[tuple[str, str, Level]]:
    """(versions of PHP, extension, level), of which one of the first two is empty, for each statement of a file.

    ``ValueError`` for a document that is none.
    """
    if path.lower().endswith(".xml"):
        yield from _of_document(parsed(data))
    else:
        yield from _of_table(table_in(data, path), "required", 0)


def of_manifest(data: bytes, path: str) -> Iterator[tuple[str, str, Level]]:
    """The same of a manifest, which is about other things too: ``{"requires": {"php": "8.1"}}``"""
    yield from _stated_in(table_in(data, path))


def _stated_in(document: Any) -> Iterator[tuple[str, str, Level]]:
    """What a manifest states, or a section of one that is about the package itself."""
    for value in required_in(document).values():
        yield from _of_table(value, "required", 1)
    for key, value in document.items() if isinstance(document, dict) else ():
        if _LEAST.fullmatch(str(key)):
            yield from _of_table({"php": value}, "required", 1)
        elif _EXTENSIONS.fullmatch(str(key)) and (_OF_PHP.match(str(key)) or _all_known(value)):
            yield from extensions_in(value, "required", 1)
        elif _PACKAGE.fullmatch(str(key)):
            yield from _stated_in(value)


_OF_PHP: Final = re.compile(r"php", re.I)
_PACKAGE: Final = re.compile(r"info|module|plugin|package|extension|addon|theme", re.I)
"""Sections of a manifest that are about the package itself."""


def _all_known(listed: Any) -> bool:
    """Whether all of a list that is called "extensions" are PHP's: else they may be those of a framework."""
    names = list(listed) if isinstance(listed, list | dict) else []
    return bool(names) and all(extension_called(str(name).encode("utf-8", "replace")) for name in names)


def required_in(document: Any) -> dict[str, Any]:
    """Those tables of a manifest that tell what it requires."""
    tables = document.items() if isinstance(document, dict) else ()
    return {str(key): value for key, value in tables if _REQUIRES.fullmatch(str(key))}


def table_in(data: bytes, path: str) -> Any:
    """What a file of JSON, INI, TOML or YAML holds; ``ValueError`` for one that is none.

    NEON is read as far as it is YAML: it may be indented by tabs.
    """
    match path.lower().rpartition(".")[2]:
        case "json":
            return msgspec.json.decode(data.removeprefix(b"\xef\xbb\xbf"))
        case "ini":
            return _sections(data)
        case "toml":
            return tomllib.loads(data.decode("utf-8"))
        case "neon":
            return document(data.replace(b"\t", b"    "))
    return document(data)


def _sections(data: bytes) -> dict[str, Any]:
    """The settings of an INI file as PHP reads them, with lists under ``name[]``; ``ValueError``: it is none."""
    merged: dict[str, Any] = {}
    inside = merged
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
        if not (setting := _SETTING.fullmatch(line.strip())):
            raise ValueError(f"line {number} is neither a section nor a setting")
        if setting["section"]:
            inside = merged[setting["section"]] = {}
        elif setting["key"]:
            key, of = setting["key"], setting["of"]
            plain = (setting["plain"] or "").strip()
            value = setting["text"] or _WORDS.get(plain.lower(), plain)
            known = inside.get(key)
            if of is None:
                inside[key] = value
            elif of:
                inside[key] = {**(known if isinstance(known, dict) else {}), of: value}
            else:
                inside[key] = [*(known if isinstance(known, list) else ()), value]
    return merged


def _of_table(table: Any, level: Level, depth: int) -> Iterator[tuple[str, str, Level]]:
    if not isinstance(table, dict) or depth > MAX_DEPTH:
        return
    for key, value in table.items():
        name = str(key)
        inside: Level = "recommended" if _OPEN.search(name) else "required" if _HARD.search(name) else level
        if _PHP.fullmatch(name) and isinstance(value, list) and value:
            value = value[0]  # with what to tell the user behind it
        if _PHP.fullmatch(name) and isinstance(value, str | float | int):
            if _VERSION.fullmatch(said := str(value).strip()):
                yield (said if not said[0].isdigit() or " " in said else f">={said}"), "", level
        elif _PHP.fullmatch(name) and isinstance(value, dict):
            yield from _of_table(
                {"php": value.get("min") or value.get("minimum") or value.get("version")}, level, depth + 1
            )
            if last := up_to(str(value.get("max") or value.get("maximum") or "")):
                yield last, "", level
            with_it = {word: listed for word, listed in value.items() if _EXTENSIONS.fullmatch(str(word))}
            yield from _of_table(with_it, level, depth + 1)
        elif _PHP_MOST.fullmatch(name) and (last := up_to(str(value))):
            yield last, "", level
        elif (marked := _EXT.match(name)) and isinstance(value, str | list):
            yield from _extension(marked[1], level)
        elif _EXTENSIONS.fullmatch(name):
            yield from extensions_in(value, inside, depth + 1)
        elif isinstance(value, list) and _OPEN.search(name) and any(_EXTENSIONS.fullmatch(str(word)) for word in table):
            yield from extensions_in(value, "recommended", depth + 1)
        elif isinstance(value, dict):
            yield from _of_table(value, inside, depth + 1)


def _of_document(root: Any) -> Iterator[tuple[str, str, Level]]:
    """``<php version="8.1"/>``, ``<extension name="intl" level="optional"/>``; of several sections the last counts."""
    tables = [tag for tag in root.iter() if isinstance(tag.tag, str)]
    stated = [(table, said) for table in tables if table.tag.lower() == "php" and (said := versions_of(table))]
    for _, versions in stated[-1:]:
        yield versions, "", "required"
    section = stated[-1][0].getparent() if stated else None
    for element in (root if section is None else section).iter():
        if isinstance(element.tag, str) and _EXTENSION.fullmatch(element.tag):
            yield from _extension(element.get("name") or (element.text or ""), level_of(element))


def versions_of(php: Any) -> str:
    """The versions that an element accepts, by attributes, its text, or ``<min>8.1</min>`` in it; empty: none."""
    said = {"version": (php.text or "").strip()}
    for kid in php:
        tag = kid.tag.lower() if isinstance(kid.tag, str) else ""
        said |= {tag: (kid.text or "").strip()} | (dict(kid.attrib) if tag == "version" else {})
    said |= php.attrib
    low, high = (next((said[key] for key in keys if said.get(key)), "") for keys in BOUNDS)
    if low and not low[0].isdigit() and _VERSION.fullmatch(low):
        return low
    return f"{f'>={low}' if VERSION_NUMBERS.fullmatch(low) else ''} {up_to(high)}".strip()


def level_of(element: Any) -> Level:
    """What an element says of the level, or those around it: ``level="optional"``, ``required="no"``, ``<optional>``"""
    said = {key: (element.get(key) or "").lower() for key in ("level", "required", "mandatory", "optional")}
    loose = said["required"] in _NO or said["mandatory"] in _NO or said["optional"] in _YES
    around = any(isinstance(above.tag, str) and _OPEN.match(above.tag) for above in element.iterancestors())
    return "recommended" if loose or around or _OPEN.search(said["level"]) else "required"


def up_to(version: str) -> str:
    """Versions up to one; all of a branch, where that is named as the last one; empty for what is no version."""
    match = re.fullmatch(r"(\d{1,2})\.(\d{1,3})", version)
    if match:
        return f"<{match[1]}.{int(match[2]) + 1}"
    return f"<={version}" if VERSION_NUMBERS.fullmatch(version) else ""


def extensions_in(listed: Any, level: Level, depth: int) -> Iterator[tuple[str, str, Level]]:
    """Names, names with a level, tables with a name in each, or lists under the words for levels."""
    if depth > MAX_DEPTH:
        return
    for entry in listed if isinstance(listed, list) else ():
        if isinstance(entry, dict):
            named = next((entry[key] for key in ("name", "extension", "ext", "id") if key in entry), "")
            yield from _extension(named, "recommended" if _left_open(entry) else level)
        else:
            yield from _extension(entry, level)
    for key, value in listed.items() if isinstance(listed, dict) else ():
        if isinstance(value, list):
            yield from extensions_in(value, "recommended" if _OPEN.search(str(key)) else level, depth + 1)
        else:
            loose = (
                value in (False, 0) or _left_open(value) or (isinstance(value, str) and _OPEN.search(value) is not None)
            )
            yield from _extension(key, "recommended" if loose else level)


def _extension(name: object, level: Level) -> Iterator[tuple[str, str, Level]]:
    if isinstance(name, str) and (extension := extension_called(name.strip().encode("utf-8", "replace"))):
        yield "", extension, level


def _left_open(entry: object) -> bool:
    """Whether a table says of one that it need not be there."""
    return isinstance(entry, dict) and (
        entry.get("optional") is True or entry.get("required") is False or entry.get("mandatory") is False
    )
