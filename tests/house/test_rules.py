"""The rules that keep the house as docs/architecture.md draws it, each measured on the source."""

import ast
import gc
import importlib
import pkgutil
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

import fundamentum
from fundamentum import lazy_regex

SOURCE = Path(__file__).parents[2] / "src/fundamentum"
FAMILIES = re.compile(
    r"\b(?:debian|ubuntu|redhat|rhel|fedora|centos|apt(?:-get|-cache|-mark)?|dpkg|dnf|yum|rpm|phpenmod|phpdismod|windows)\b"
    r"|/etc/php\b|/var/lib/(?:dpkg|apt|rpm)|/etc/apt",
    re.I,
)
WEB_SERVERS = re.compile(
    r"\b(?:nginx|apache|httpd|iis|a2(?:en|dis)(?:mod|conf)|a2query|appcmd|client_max_body_size|limitrequestbody|fcgid\w+|"
    r"fastcgi_\w+|maxallowedcontentlength|virtualhost)\b",
    re.I,
)
BESIDE = {  # files outside of the rooms that read or show exactly such a thing, and the words they may say
    "hosts/windows_directory.py": r"windows",
    "hosts/information_page.py": r"page|apache (?:2\.0 |2 )?(?:handler|environment)|windows",
    "php_files/php_binaries.py": r"windows",
    "php_files/executables.py": r"windows|dpkg|rpm",
    "platforms/windows/layout.py": r"apache|httpd",
    "survey/probes/php_modules.py": r"windows",
    "survey/server_reference.py": r"windows",
    "survey/upload_answer.py": r"windows",
    "cli/shared_arguments.py": r"windows",
    "webservers/iis/__init__.py": r"windows",
    "webservers/iis/barriers.py": r"windows",
    "webservers/iis/sites.py": r"windows",
}
LOWEST = {"errors", "entries", "lazy_regex", "untrusted", "model", "catalog"}
BELOW = LOWEST | {"hosts", "php_files"}
JUDGED = LOWEST | {"effective", "platforms", "webservers"}
KNOWS = {  # who may know whom
    "errors": set(),
    "entries": set(),
    "interruption": set(),
    "lazy_regex": set(),
    "catalog": {"untrusted", "lazy_regex"},
    "model": {"catalog", "lazy_regex"},
    "untrusted": {"errors", "model", "entries", "lazy_regex"},
    "hosts": LOWEST,
    "php_files": LOWEST | {"hosts"},
    "platforms": BELOW,
    "webservers": BELOW,
    "effective": LOWEST | {"platforms", "webservers"},
    "survey": BELOW | {"platforms", "webservers", "effective"},
    "changes": JUDGED,
    "kinds": JUDGED | {"changes"},
    "needs": LOWEST | {"kinds"},
    "prose": LOWEST | {"needs", "kinds"},
    "derive": LOWEST | {"needs", "kinds", "prose"},
    "check": JUDGED | {"changes", "kinds"},
    "plan": JUDGED | {"changes", "kinds", "check"},
    "report": JUDGED | {"prose", "changes", "kinds", "needs", "check", "plan", "derive"},
    "help_topics": set(),
    "cli": LOWEST
    | {"help_topics", "prose", "survey", "kinds", "needs", "derive", "check", "plan", "platforms", "report"},
    "demo": set(),
    "__main__": {"cli"},
}


@cache
def modules() -> dict[str, list[ast.AST]]:
    """File below the source → all nodes of its tree."""
    paths = sorted(SOURCE.rglob("*.py"))
    return {str(path.relative_to(SOURCE)): list(ast.walk(ast.parse(path.read_text()))) for path in paths}


def literals(nodes: list[ast.AST]) -> Iterator[tuple[int, str]]:
    """Every text in a module that is no docstring."""
    statements = {id(node.value) for node in nodes if isinstance(node, ast.Expr)}
    for node in nodes:
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in statements:
            yield node.lineno, node.value


def spoken(room: str, words: re.Pattern[str]) -> list[str]:
    found = []
    for name, nodes in modules().items():
        if name.startswith((f"{room}/", "derive/", "catalog/", "demo/")):
            continue
        allowed = re.compile(BESIDE.get(name, "(?!)"), re.I)
        found += [f"{name}:{line}: {text}" for line, text in literals(nodes) if words.search(allowed.sub("", text))]
    return found


def test_the_words_of_a_family_of_systems_stand_with_its_platform() -> None:
    assert spoken("platforms", FAMILIES) == []


def test_the_words_of_a_web_server_stand_with_it() -> None:
    assert [one for one in spoken("webservers", WEB_SERVERS) if not one.startswith("platforms/")] == []


def test_the_recorder_names_neither_but_in_what_the_entries_add_to_it() -> None:
    texts = {path: path.read_text() for path in (SOURCE / "survey/recorder").glob("*.*") if path.suffix != ".py"}
    words = {path.name: (FAMILIES.findall(text), WEB_SERVERS.findall(text)) for path, text in texts.items()}
    assert {"filter.awk", "recorder.sh"} <= set(words)
    assert set(map(str, words.values())) == {"([], [])"}


def test_nobody_takes_an_origin_or_a_remedy_apart() -> None:
    taking = re.compile(
        r"(?:origin|remedy|remark|why)\w*(?: or \"\")?\)?\.(?:r?partition|r?split|startswith|endswith|removesuffix)\("
    )
    found = [str(path) for path in SOURCE.rglob("*.py") if taking.search(path.read_text())]
    assert found == []


def room_of(module: str) -> str:
    return module.removeprefix("fundamentum").lstrip(".").partition(".")[0] or "__init__"


@pytest.mark.parametrize("name", [str(path.relative_to(SOURCE)) for path in sorted(SOURCE.rglob("*.py"))])
def test_rooms_know_only_those_below_them(name: str) -> None:
    own = name.partition("/")[0].removesuffix(".py")
    imports = [node for node in modules()[name] if isinstance(node, ast.ImportFrom)]
    imported = [(node.module or "", alias.name) for node in imports for alias in node.names]
    known = {f"fundamentum.{name}" if module == "fundamentum" else module for module, name in imported}
    rooms = {room_of(module) for module in known if module.startswith("fundamentum.")} - {own, "__version__"}
    assert own == "__init__" or rooms <= KNOWS[own], rooms - KNOWS[own]


STEPS = ("families", "result", "application", "php_source", "beside", "statements", "reading", "trying", "weighing")
"""Deriving, in order; what stands in derive/ itself knows all of them."""


def test_the_steps_of_deriving_know_only_those_before_them() -> None:
    wrong = []
    for name, nodes in modules().items():
        own = name.removeprefix("derive/").partition("/")[0].removesuffix(".py")
        if name.startswith("derive/") and own in STEPS:
            known = [node.module or "" for node in nodes if isinstance(node, ast.ImportFrom)]
            steps = {module.split(".")[2] for module in known if module.startswith("fundamentum.derive.")}
            wrong += [f"{name}: {step}" for step in steps if step not in STEPS[: STEPS.index(own) + 1]]
    assert wrong == []


def test_few_modules_are_imported_inside_functions() -> None:
    """What is loaded late is loaded by ``entries``; only libraries that few runs need are imported where they are used."""
    inside = [
        f"{name}: {ast.unparse(node)}"
        for name, nodes in modules().items()
        for function in nodes
        if isinstance(function, ast.FunctionDef | ast.AsyncFunctionDef)
        for node in ast.walk(function)
        if isinstance(node, ast.Import | ast.ImportFrom)
    ]
    assert len(inside) <= 10, inside
    assert not [one for one in inside if "fundamentum" in one]


def test_every_pattern_that_is_compiled_at_its_first_use_can_be_compiled() -> None:
    for module in pkgutil.walk_packages(fundamentum.__path__, "fundamentum."):
        importlib.import_module(module.name)
    gc.unfreeze()  # else what is frozen is not told
    patterns = [get_object for get_object in gc.get_objects() if isinstance(get_object, lazy_regex._Later)]
    gc.freeze()
    assert len(patterns) > 150
    assert all(pattern.pattern for pattern in patterns)
