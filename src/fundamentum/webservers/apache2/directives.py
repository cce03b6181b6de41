"""What Apache's modules understand: which of them knows a directive, and what lets it stand in a ``.htaccess``.

What is known was harvested from Debian's Apache and its modules by ``tools/harvest_directives.py``.  Source of the
rules: Apache's documentation of ``AllowOverride`` and ``AllowOverrideList``; asked of real servers
(``tests/real/test_access_files.py``).
"""

import json
import re
from collections.abc import Collection, Iterable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Final, NamedTuple

from fundamentum.webservers.apache2.lines import MACRO, Line

CLASSES: Final = frozenset({"authconfig", "limit", "options", "fileinfo", "indexes"})
_BUILT_IN: Final = frozenset({"core", "http_core", "mod_so", "mod_version"})
"""Modules that are never loaded by a line, or need no loading in some builds."""
_BUILT_IN_SOMEWHERE: Final = frozenset({"mod_log_config", "mod_logio", "mod_unixd", "mod_watchdog"})
"""Those that Debian's Apache has inside, and others load."""
_FEW: Final = 8
"""Modules, fewer than which are loaded by no configuration of a whole server."""
_OF_OTHERS: Final = frozenset({"mod_data", "mod_systemd"})
"""Modules of distributions of the RHEL family, which know nothing that may stand in a ``.htaccess``."""
_ALWAYS_LOADED: Final = "mod_authz_core"
"""Where no line loads this one, all modules are built in, and which there are is not known."""
_NAME: Final = re.compile(r"<?[A-Za-z]\w{0,60}")
_UNSURE: Final = ("ifversion", "ifdirective", "ifsection")
"""Sections that are left out as they are read, where what they ask for is not so."""
_WORDS: Final = {
    **dict.fromkeys(("authname", "authtype", "order", "rewriteengine", "rewritebase", "directoryslash"), (1, 1)),
    **dict.fromkeys(("fallbackresource", "sethandler", "expiresactive", "satisfy", "authuserfile"), (1, 1)),
    **dict.fromkeys(("rewriterule", "rewritecond"), (2, 3)),
    "errordocument": (2, 2),
}
"""How many words follow directives that applications bring in such files; more or fewer are a mistake."""
_OPTIONS: Final = frozenset(
    "all none indexes includes includesnoexec execcgi followsymlinks symlinksifownermatch multiviews runscripts".split()
)


class Allowed(NamedTuple):
    """What lines in a directory's file may set."""

    classes: frozenset[str] = frozenset()
    listed: frozenset[str] = frozenset()
    """Directives that are allowed by their names."""
    options: frozenset[str] | None = None
    """Those that ``Options`` may name; None: all."""
    forgiven: frozenset[str] = frozenset()
    """Mistakes that a line is left out for, and nothing worse: ``override``, ``unknown``."""

    def lets(self, name: str, wanted: Collection[str]) -> bool:
        """Whether a directive may stand there that wants one of these classes."""
        return name in self.listed or not self.classes.isdisjoint(wanted)

    def by(self, line: Line) -> "Allowed":
        """After one more line that says what is allowed: of each kind of them the last one counts."""
        words = [word.lower() for word in line.words]
        if line.name == "allowoverridelist":
            return self._replace(listed=frozenset() if "none" in words else frozenset(words))
        classes: frozenset[str] = frozenset()
        options: frozenset[str] | None = None
        forgiven: frozenset[str] = frozenset()
        for word in words:
            name, _, value = word.partition("=")
            if name == "nonfatal":
                forgiven |= {"override", "unknown"} if value == "all" else {value}
            elif name in ("all", "none"):
                classes = CLASSES if name == "all" else frozenset()
            else:
                classes |= {name}
                options = frozenset(value.split(",")) if name == "options" and value else options
        return Allowed(classes, self.listed, options, forgiven)

    @property
    def nothing(self) -> bool:
        """Whether such files are not even looked for."""
        return not (self.classes or self.listed)


class Modules:
    """The modules that a configuration loads."""

    def __init__(self, names: Iterable[str]) -> None:
        """``names`` are their identifiers, as ``LoadModule`` has them: ``rewrite_module``."""
        self.names = {_source(name) for name in names}

    @property
    def told(self) -> bool:
        """Whether the configuration tells at all which modules there are."""
        return _ALWAYS_LOADED in self.names

    @property
    def all_told(self) -> bool:
        """Whether it tells of all that a server needs to start."""
        return self.told and len(self.names) >= _FEW

    @property
    def all_known(self) -> bool:
        """Whether of each of them is known what it understands."""
        return self.names <= _modules()

    def have(self, module: str) -> bool:
        return module in self.names or module in _BUILT_IN or not self.told


class Mistake(NamedTuple):
    """Why Apache does not take a line."""

    why: str
    module: str = ""
    """The module that would know it, by the name that it is switched on by: ``rewrite``."""
    sure: bool = True
    kind: str = ""
    """``override`` or ``unknown``, as :attr:`Allowed.forgiven` has them; empty: it is never forgiven."""


def mistake(line: Line, allowed: Allowed, modules: Modules) -> Mistake | None:
    """Why Apache does not take a line of a directory's file; None where it does."""
    wrong = _mistake(line, allowed, modules)
    unsure = any(section.kind in _UNSURE for section in line.inside)
    return wrong._replace(sure=False, module="") if wrong and unsure else wrong


def refused(line: Line, modules: Modules) -> Mistake | None:
    """Why Apache does not start with a line of its own configuration; None where it does, or that is not known.

    Source: it says "Invalid command" of what no module that is loaded knows, and ends.
    """
    if not modules.all_told or line.name == MACRO or any(section.kind in _UNSURE for section in line.inside):
        return None
    known = _table().get(line.name)
    if known is None:
        plain = modules.all_known and _NAME.fullmatch(line.name)
        return Mistake(f"{line.name} is unknown to Apache") if plain else None
    if any(modules.have(known_as.module) or known_as.module in _BUILT_IN_SOMEWHERE for known_as in known):
        return None
    module = known[0].module.removeprefix("mod_")
    return Mistake(f"{known[0].name} is unknown to Apache, which does not load {module}", module)


def _mistake(line: Line, allowed: Allowed, modules: Modules) -> Mistake | None:
    known = _table().get(line.name)
    if known is None:
        name = line.name if _NAME.fullmatch(line.name) else "its first word"
        if modules.told and modules.all_known:
            return Mistake(f"{name} is unknown to Apache", kind="unknown")
        return Mistake(f"whether a module of Apache knows {name} is not known", sure=False, kind="unknown")
    name = known[0].name
    there = [known_as for known_as in known if modules.have(known_as.module)]
    wanted = frozenset(word for known_as in there or known for word in known_as.classes)
    kind = "override" if there else "unknown"
    if not wanted:
        return Mistake(f"{name} is not allowed in such a file", kind=kind)
    if not allowed.lets(line.name, wanted):
        return Mistake(f"AllowOverride does not let such a file use {name}", kind=kind)
    if not there:
        module = known[0].module.removeprefix("mod_")
        return Mistake(f"{name} is unknown to Apache, which does not load {module}", module, kind=kind)
    return _in_words(name, line, allowed)


def _in_words(name: str, line: Line, allowed: Allowed) -> Mistake | None:
    """What is wrong with what follows the directive."""
    if line.words == ("noted",):
        return None  # a recording tells no more
    few, many = _WORDS.get(line.name, (0, len(line.words)))
    if not few <= len(line.words) <= many:
        wanted = f"{few} or {many} words" if few < many else "one word" if few == 1 else f"{few} words"
        return Mistake(f"{name} takes {wanted}, and has {len(line.words)}")
    return _in_options([word.lower() for word in line.words], allowed) if line.name == "options" else None


def _in_options(words: Sequence[str], allowed: Allowed) -> Mistake | None:
    rest = words[1:] if words[:1] in (["all"], ["none"]) else words
    signed = [word[:1] in "+-" for word in rest]
    plain = [word.lstrip("+-") for word in rest]
    if len(rest) == len(words) and any(signed) and not all(signed):
        return Mistake("Options with and without + or - do not go together")
    if not {"all", "none"}.isdisjoint(plain):
        return Mistake("of Options, All and None come first, and without + or -")
    if odd := next((word for word in plain if word not in _OPTIONS), ""):
        return Mistake(f"Options knows no {odd}" if odd.isalnum() else "Options does not know one of its words")
    if allowed.options is not None and "options" not in allowed.listed:
        closed = next(
            (word for word in (*plain, *words[: len(words) - len(rest)]) if word not in {*allowed.options, "none"}), ""
        )
        return Mistake(f"AllowOverride does not let such a file set the option {closed}") if closed else None
    return None


class _Known(NamedTuple):
    name: str
    """As it is usually written."""
    module: str
    classes: Sequence[str]
    """Any one of these lets it stand in a ``.htaccess``; none: nothing does."""


@cache
def _harvest() -> Mapping[str, Mapping[str, Sequence[str]]]:
    """Module → the classes that let its directives stand in a ``.htaccess`` → these directives."""
    tables: dict[str, dict[str, list[str]]] = json.loads(Path(__file__).with_name("directives.json").read_bytes())
    return tables


@cache
def _table() -> Mapping[str, Sequence[_Known]]:
    """Directive, in lower case, → the modules that know it; those of Apache itself first."""
    table: dict[str, list[_Known]] = {}
    for module, by_classes in _harvest().items():
        for classes, names in by_classes.items():
            for name in names:
                table.setdefault(name.lower(), []).append(_Known(name, module, classes.split()))
    return table


@cache
def _modules() -> frozenset[str]:
    return frozenset(_harvest()) | _OF_OTHERS


def _source(identifier: str) -> str:
    """``rewrite_module`` → ``mod_rewrite``."""
    plain = identifier.removesuffix("_module")
    return "mod_php" if re.fullmatch(r"php\d?", plain) else f"mod_{plain}"
