"""What packages of other kinds than the package manager's say in a form that programs read.

The comment at the head of a plug-in (``Requires PHP: 7.4``), an ``info.xml`` with ``<php min-version="8.1"/>``, an
``info.yml`` with ``php: 8.1``, a ``plugin.json`` or ``plugin.yml`` with ``"requires": {"php": ...}``, and the
``package.xml`` of the older library archive; and lists of requirements in files of their own.
"""

import itertools
import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, Final

import msgspec

from fundamentum.catalog import canonical
from fundamentum.derive.beside import requirement_files
from fundamentum.derive.beside.files_beside import files_in
from fundamentum.derive.beside.requirement_files import level_of, versions_of
from fundamentum.derive.php_source.quoted import extension_called
from fundamentum.model.needs_value import Level
from fundamentum.untrusted.files import read_below
from fundamentum.untrusted.xml import MAX_ELEMENTS

MAX_SIZE: Final = 2 * 1024 * 1024
MAX_STATED: Final = 500
"""Statements of one list: no application has so many."""
HEAD: Final = 8192
"""Bytes at the beginning of a file in which its header stands."""
_FOLDERS: Final = ("", "appinfo")
OF_XML: Final = re.compile(r"(?:info|manifest|package2?|plugin|extension|module|addon)\.xml")
OF_MANIFEST: Final = re.compile(
    r"(?:plugin|manifest|module|addon|extension|skin|info|app|application|theme)\.(?:json|ya?ml|toml|neon)|"
    r"package\.ya?ml|(?:plugin|module|addon|extension|theme|info)\.ini"
)
_STATES: Final = re.compile(rb"<php_?minimum>|<php\s[^>]{0,80}min", re.I)
"""In the head of a document that is called after its package."""
_INFO: Final = re.compile(r"[\w-]+\.info(?:\.ya?ml)?")
_COMMENTED: Final = frozenset({"readme.txt", "style.css"})
"""Files beside the source that may begin with such a comment: a plug-in's, and a theme's."""
_COMMENT: Final = re.compile(
    r"^[ \t/*#;]*(?:Requires(?: at least)? PHP|Minimum PHP(?: version)?|PHP version required)[ \t]*:[ \t]*"
    r"(?:PHP )?(?:>=[ \t]*)?(\d{1,2}\.\d{1,3}(?:\.\d{1,3})?)",
    re.I | re.M,
)
_INFO_LINE: Final = re.compile(r"^php\s*[:=]\s*[\"']?(?:>=\s*)?(\d{1,2}\.\d{1,3}(?:\.\d{1,3})?)", re.M)
_REQUIRES: Final = re.compile(r"requir|depend|prerequisite", re.I)
"""Elements in which requirements stand."""
_RELATIONS: Final = {"ge": ">=", "gt": ">", "le": "<=", "lt": "<", "eq": "=", "ne": "!="}


class Header(msgspec.Struct, frozen=True):
    """One statement of a header: about PHP or an extension, or its package's name and version."""

    where: str
    """File and line."""
    php: str = ""
    """The versions that it accepts."""
    extension: str = ""
    level: Level = "required"
    name: str = ""
    version: str = ""


def package_headers(root: Path, base: str, remark: Callable[[str], None]) -> Iterator[Header]:
    """What the headers at the top of an application state.  ``base``: where it begins; ``remark`` takes what breaks."""
    for path, name in files_of_headers(root, base):
        try:
            if OF_XML.fullmatch(name):
                yield from _of_xml(read_below(root, path, MAX_SIZE + 1), path)
            elif (manifest := OF_MANIFEST.fullmatch(name)) or requirement_files.NAMES.fullmatch(name):
                data = read_below(root, path, MAX_SIZE)
                read = requirement_files.of_manifest if manifest else requirement_files.requirements
                for php, extension, level in itertools.islice(read(data, path), MAX_STATED):
                    line = data.count(b"\n", 0, max(data.find((extension or "php").encode()), 0)) + 1
                    yield Header(f"{path}:{line}", php=php, extension=extension, level=level)
            elif name.endswith(".xml"):
                head = read_below(root, path, HEAD)
                yield from _of_xml(read_below(root, path, MAX_SIZE + 1), path) if _STATES.search(head) else ()
            elif _INFO.fullmatch(name):
                yield from _of_lines(_INFO_LINE, read_below(root, path, HEAD), path)
            elif name.endswith(".php") or name.lower() in _COMMENTED:
                yield from _of_lines(_COMMENT, read_below(root, path, HEAD), path)
        except (OSError, ValueError, RecursionError, SyntaxError) as error:
            what = error.strerror if isinstance(error, OSError) else str(error)[:200]
            remark(f"{path} cannot be used: {what}")


def files_of_headers(root: Path, base: str) -> Iterator[tuple[str, str]]:
    """Path and name of each file at the top of an application, and of lists of requirements a little further down."""
    listed = files_in(str(root), base, (*_FOLDERS, *requirement_files.FOLDERS))
    files = [(folder, path) for folder, path in listed if not (root / path).is_symlink() and (root / path).is_file()]
    newer = {path for _, path in files if path.endswith("package2.xml")}
    for folder, path in files:
        name = path.rpartition("/")[2]
        counts = folder in _FOLDERS or requirement_files.NAMES.fullmatch(name) or path.endswith("config/module.ini")
        if counts and (name != "package.xml" or path.replace("package.xml", "package2.xml") not in newer):
            yield path, name


def _of_lines(pattern: re.Pattern[str], head: bytes, path: str) -> Iterator[Header]:
    text = head.decode("utf-8", "replace")
    if match := pattern.search(text):
        yield Header(f"{path}:{text.count(chr(10), 0, match.start(1)) + 1}", php=f">={match[1]}")


def lenient_xml(data: bytes) -> Any:
    """The root element of a document that may be broken, its names without namespaces; ``ValueError``: too large."""
    from lxml import etree  # noqa: PLC0415 — few applications have such a file

    if len(data) > MAX_SIZE or data.count(b"<") > 2 * MAX_ELEMENTS:
        raise ValueError("larger than any manifest")
    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False, recover=True)
    root = etree.fromstring(data, parser)
    if root is None:
        raise ValueError("no element in it")
    for element in root.iter():
        if isinstance(element.tag, str):
            element.tag = etree.QName(element).localname
    return root


def is_required(element: Any) -> bool:
    """Whether it stands in an element for requirements."""
    return any(_REQUIRES.search(str(above.tag)) for above in element.iterancestors())


def _of_xml(data: bytes, path: str) -> Iterator[Header]:
    root = lenient_xml(data)
    if path.rpartition("/")[2].startswith("package"):
        yield from _of_archive(root, path)
        return
    for element in root.iter(*_ABOUT_PHP):
        where = f"{path}:{element.sourceline}"
        said = (element.findtext("name") or element.text or "").strip()
        if element.tag == "extension" and not is_required(element):
            continue
        if element.tag in _NAMED:
            if name := extension_called(said.encode("utf-8", "replace")):
                yield Header(where, extension=name)
            continue
        if element.tag in _TABLES:
            for kid in (each for each in element if isinstance(each.tag, str)):
                if name := extension_called(kid.tag.encode("utf-8", "replace")):
                    yield Header(f"{path}:{kid.sourceline}", extension=name, level=level_of(kid))
        elif text := versions_of(element):
            yield Header(where, php=text)


_TABLES: Final = ("php_extensions", "php-extensions", "phpextensions")
"""Elements in which each other one is called after an extension."""
_NAMED: Final = ("lib", "php-extension", "php_extension", "requires_php_extension", "extension")
_ABOUT_PHP: Final = (
    "php", "php_minimum", "phpminimum", "php_version", *_NAMED, *_TABLES,
)  # fmt: skip


def _of_archive(root: Any, path: str) -> Iterator[Header]:
    """The package.xml of the older library archive, in both of its versions."""
    version = (root.findtext("version/release") or root.findtext("release/version") or "").strip()
    yield Header(path, name=(root.findtext("name") or "").strip(), version=version)
    for element in root.iterfind("dependencies/required/php"):
        low, high = (element.findtext("min") or "").strip(), (element.findtext("max") or "").strip()
        text = " ".join(part for part in (f">={low}" if low else "", f"<={high}" if high else "") if part)
        text += "".join(f" !={excluded.text}" for excluded in element.iterfind("exclude") if excluded.text)
        yield Header(f"{path}:{element.sourceline}", php=text.strip())
    levels: tuple[tuple[Level, str], ...] = (
        ("required", "required"), ("recommended", "optional"), ("recommended", "group"),
    )  # fmt: skip
    for level, group in levels:
        for element in root.iterfind(f"dependencies/{group}/extension"):
            yield _extension(element.findtext("name"), level, path, element)
    for element in root.iter("dep"):
        optional: Level = "recommended" if element.get("optional") == "yes" else "required"
        if element.get("type") == "ext":
            yield _extension(element.get("name") or element.text, optional, path, element)
        elif element.get("type") == "php" and element.get("version"):
            operator = _RELATIONS.get(element.get("rel") or "ge", ">=")
            yield Header(f"{path}:{element.sourceline}", php=f"{operator}{element.get('version')}")


def _extension(name: str | None, level: Level, path: str, element: Any) -> Header:
    return Header(f"{path}:{element.sourceline}", extension=canonical((name or "").strip()), level=level)
