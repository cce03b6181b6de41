"""The facts that deriving rests on, against real PHP; and what it derives, against what Debian's packages declare."""

import json

import pytest
from measure_derive import measured, totals

from fundamentum.catalog import branch_key
from fundamentum.catalog.symbols import EVERYWHERE, Symbol, symbols
from tests.tables import CONSTRUCTS

from .conftest import Server

pytestmark = pytest.mark.real

REPORT = r"""
$constants = get_defined_constants(true);
$all = [];
foreach (get_loaded_extensions() as $name) {
    $it = new ReflectionExtension($name);
    $key = isset($constants[$name]) ? $name : strtolower($name);
    $all[strtolower($name)] = ['function' => array_map('strtolower', array_keys($it->getFunctions())), 'constant' => array_keys($constants[$key] ?? []),
        'class' => array_map('strtolower', array_keys($it->getClasses()))];
}
echo json_encode($all);
"""
LINT = r"""
foreach (json_decode(file_get_contents('php://stdin'), true) as $name => $code) {
    file_put_contents('/tmp/lint.php', "<?php\n$code\n");
    exec(PHP_BINARY . ' -n -l /tmp/lint.php 2>&1', $said, $failed);
    $fine[$name] = !$failed;
}
echo json_encode($fine);
"""


def there(symbol: Symbol, branch: str) -> bool:
    """Whether the catalogue says that a branch has the symbol."""
    after = not symbol.since or branch_key(branch) >= branch_key(symbol.since)
    return after and not (symbol.gone and branch_key(branch) >= branch_key(symbol.gone))


def test_the_catalogue_knows_who_provides_every_symbol_of_the_real_php(server: Server) -> None:
    text = server.root.run(f"php{server.branch}", "-d", "extension=pdo", "-d", "display_errors=0", "-r", REPORT)
    real: dict[str, dict[str, list[str]]] = json.loads(text[text.index('{"core"') :])
    wrong = []
    names = {
        kind: {name for kinds in real.values() for name in kinds[kind]} for kind in ("function", "class", "constant")
    }
    for extension, kinds in real.items():
        shown = {"zend opcache": "opcache"}.get(extension, extension)
        for kind, found in kinds.items():
            for name in found:
                known = [one for one in symbols().get((kind, name), ()) if there(one, server.branch)]  # type: ignore[arg-type]
                if extension not in EVERYWHERE and shown not in {one.extension for one in known}:
                    wrong.append(f"{extension} {kind} {name}")
    loaded = set(real) | {"standard"}
    for (kind, name), providers in symbols().items():
        for symbol in providers if kind in names and "::" not in name else ():
            # PHP's own core has it exactly in the branches that the catalogue names.
            if symbol.extension in loaded & EVERYWHERE and (name in names[kind]) != there(symbol, server.branch):
                wrong.append(f"{symbol.extension} {kind} {name} {symbol.since}..{symbol.gone}")
    assert wrong == []
    assert sum(len(found) for kinds in real.values() for found in kinds.values()) > 3000


def test_bounds_of_constructs_are_confirmed_by_linting(server: Server) -> None:
    cases = {name: code for name, (_, _, code, tells) in CONSTRUCTS.items() if tells}
    text = server.root.run(
        f"php{server.branch}", "-n", "-d", "extension=json", "-r", LINT, stdin=json.dumps(cases), check=False
    )
    fine = json.loads(text[text.index("{") :])
    expected = {}
    for name in cases:
        since, gone, _, _ = CONSTRUCTS[name]
        expected[name] = (not since or branch_key(server.branch) >= branch_key(since)) and not (
            gone and branch_key(server.branch) >= branch_key(gone)
        )
    assert fine == expected


def test_what_is_derived_agrees_with_what_debian_s_packages_declare() -> None:
    packages = measured("bookworm", 8, everything=True)
    rows = packages.values()
    assert len(rows) >= 6, totals(rows)
    changed = {name: row.changed for name, row in packages.items() if row.changed}
    assert not changed, f"what is not parsed changes the answer: {changed}"
    assert sum(row.confirmed for row in rows) >= 0.8 * sum(row.required for row in rows), totals(rows)
    assert sum(row.found for row in rows) >= 0.85 * sum(row.groups for row in rows), totals(rows)
