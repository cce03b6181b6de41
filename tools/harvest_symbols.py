"""Harvest which extension provides which symbol, and since when, into ``catalog/data/symbols.json``.

    sudo python tools/harvest_symbols.py [FOLDER]

Two sources, both real builds of PHP.  Debian's packages of three releases (7.4, 8.2, 8.4) with every extension they
offer say who provides what.  The builds of PHP for WebAssembly, one for each branch, say for PHP's own extensions in
which branch a symbol came or went.  FOLDER keeps both between runs (``/var/tmp/fundamentum-symbols``).
"""

import json
import subprocess
import sys
from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

from debian_root import STORE, Root, base

OUTPUT = Path(__file__).parents[1] / "src/fundamentum/catalog/data/symbols.json"
DEBIAN = {"bullseye": ("7.4", "20190902"), "bookworm": ("8.2", "20220829"), "trixie": ("8.4", "20240924")}
WEB_ASSEMBLY = ("5.2", "7.2", "7.3", "7.4", "8.0", "8.1", "8.2", "8.3", "8.4", "8.5")
# In every PHP, whatever is installed: what came or went stands among the others, the rest by itself.
EVERYWHERE = {"core", "standard", "spl", "date", "pcre", "reflection", "hash", "random", "json", "uri", "lexbor"}
# Symbols moved between these without anybody noticing: they count as one.
ALWAYS = {"core", "standard", "spl", "date", "pcre", "reflection", "random"}
# Only in the WebAssembly builds, or about the way PHP is run.
NOT_EXTENSIONS = {"post_message_to_js", "wasm_memory_storage", "dns_polyfill", "readline_cli", "cli", "user", "sqlite"}
# Older than the WebAssembly builds tell: some of these are made without the library for fonts, or for a format.
OF_LIBRARIES = set("imagecreatefromwebp imagewebp imageftbbox imagefttext imagettfbbox imagettftext".split())
# Packages that cannot be installed beside another of the list; their files are put in place without it.
APART = ("gmagick", "yac")
KINDS = ("functions", "classes", "constants", "directives", "schemes", "filters")

REPORT = r"""
function tell($all) {
    echo "{{{", json_encode($all), "}}}";
}
$all = array();
$own = array_flip(get_loaded_extensions());
$constants = get_defined_constants(true);
foreach (get_loaded_extensions() as $name) {
    $it = new ReflectionExtension($name);
    $key = isset($constants[$name]) ? $name : strtolower($name);
    $all[strtolower($name)] = array(
        'functions' => array_keys($it->getFunctions()),
        'classes' => array_keys($it->getClasses()),
        'constants' => array_map('strval', array_keys(isset($constants[$key]) ? $constants[$key] : array())),
        'directives' => array_keys($it->getINIEntries()));
}
$all[''] = array('schemes' => stream_get_wrappers(), 'filters' => stream_get_filters(),
    'pdo' => class_exists('PDO') ? array_keys(reflect_pdo()) : array());
function reflect_pdo() { $it = new ReflectionClass('PDO'); return $it->getConstants(); }
tell($all);
"""
RUN = """
import { PHP, loadPHPRuntime } from '@php-wasm/universal';
import { readFileSync } from 'node:fs';
const loader = await import(`@php-wasm/node-${process.argv[2].replace('.', '-')}`);
const php = new PHP(await loadPHPRuntime(await loader.getPHPLoaderModule(), { processId: 1 }));
const answer = await php.run({ code: readFileSync(process.argv[3], 'utf8') });
process.stdout.write(answer.text, () => process.exit(0));
"""

Report = dict[str, dict[str, list[str]]]


def parsed(text: str) -> Report:
    found: Report = json.loads(text[text.index("{{{") + 3 : text.rindex("}}}")])
    return found


def debian_root(release: str, api: str, branch: str) -> Root:
    """A root of the release with every extension package of its branch."""
    path = STORE / f"dev-symbols-{release}"
    if (path / "harvest-ready").exists():
        return Root(path)
    root = Root(path) if path.exists() else base(release).copy(path)
    root.run("apt-get", "update")
    available = root.run("apt-cache", "dumpavail").split("\n\n")
    names = sorted(
        name
        for entry in available
        if (name := entry.split("\n", 1)[0].removeprefix("Package: ")).startswith("php")
        if f"phpapi-{api}" in entry or name.startswith(f"php{branch}-")
        if not name.endswith(("-dev", "-dbgsym", "-phpdbg", "-cgi", "-fpm"))
    )
    apart = [name for name in names if name.endswith(APART)]
    root.install(*(name for name in names if name not in apart), f"php{branch}-cli", "libgraphicsmagick-q16-3*")
    script = 'cd /root && apt-get download -q "$@" && for i in *.deb; do dpkg-deb -x "$i" /; done && rm -f *.deb'
    root.run("sh", "-ec", script, "sh", *apart)
    (path / "harvest-ready").touch()
    return root


def debian_report(release: str) -> Report:
    branch, api = DEBIAN[release]
    root = debian_root(release, api, branch)
    php = (f"php{branch}", "-d", "display_errors=stderr")
    found = parsed(root.run(*php, "-r", REPORT))
    plain = parsed(root.run(f"php{branch}", "-n", "-d", "extension=json.so", "-r", REPORT, check=False))
    together = [name for name in found if name and name not in plain]
    for file in sorted((root.path / f"usr/lib/php/{api}").glob("*.so")):
        loaded = {"zend opcache": "opcache"}
        if file.stem not in {loaded.get(name, name) for name in found}:
            alone = root.run(
                f"php{branch}", "-n", "-d", "extension=json", "-d", f"extension={file.name}", "-r", REPORT, check=False
            )
            if "{{{" in alone:
                found |= {
                    name: value
                    for name, value in parsed(alone).items()
                    if name and name not in plain and name not in found
                }
    # Which scheme, filter and class constant of PDO comes with which extension shows when it is left out.
    everything = {key: set(found[""][key]) for key in ("schemes", "filters", "pdo")}
    for name in together:
        scanned = root.run("sh", "-c", f"ls /etc/php/{branch}/cli/conf.d").split()
        kept = [part for part in scanned if part.split("-", 1)[1] != f"{name}.ini"]
        root.run(
            "sh",
            "-ec",
            f"rm -rf /tmp/scan && mkdir /tmp/scan && cp -L {' '.join(f'/etc/php/{branch}/cli/conf.d/{k}' for k in kept)} /tmp/scan",
        )
        without = root.run(
            f"php{branch}", "-d", "display_startup_errors=0", "-r", REPORT, check=False, PHP_INI_SCAN_DIR="/tmp/scan"
        )
        if "{{{" not in without:
            continue
        rest = parsed(without)
        if [other for other in together if other not in rest] != [name]:
            continue
        found[name]["schemes"] = sorted(everything["schemes"] - set(rest[""]["schemes"]))
        found[name]["filters"] = sorted(everything["filters"] - set(rest[""]["filters"]))
        found[name]["constants"] += [f"PDO::{x}" for x in sorted(everything["pdo"] - set(rest[""]["pdo"]))]
    return found


def web_assembly_reports(folder: Path) -> dict[str, Report]:
    folder.mkdir(parents=True, exist_ok=True)
    if not (folder / "node_modules").exists():
        packages = [f"@php-wasm/node-{branch.replace('.', '-')}" for branch in WEB_ASSEMBLY]
        (folder / "package.json").write_text('{"private": true}')
        subprocess.run(
            ["npm", "install", "--no-audit", "--no-fund", "--ignore-scripts", "@php-wasm/universal", *packages],
            cwd=folder,
            check=True,
        )
    (folder / "run.mjs").write_text(RUN)
    (folder / "report.php").write_text("<?php " + REPORT)
    found = {}
    for branch in WEB_ASSEMBLY:
        done = subprocess.run(
            ["node", "run.mjs", branch, "report.php"], cwd=folder, capture_output=True, text=True, check=True
        )
        found[branch] = parsed(done.stdout)
    return found


def spelled(kind: str, name: str) -> str:
    """Functions and classes are the same in either case; constants and directives are not."""
    return name.lower() if kind in ("functions", "classes") else name


def presence(reports: dict[str, Report]) -> dict[tuple[str, str, str], set[str]]:
    """(extension, kind, name) → the branches that have it."""
    found: dict[tuple[str, str, str], set[str]] = defaultdict(set)
    for branch, report in reports.items():
        for extension, kinds in report.items():
            extension = "standard" if extension in ALWAYS else extension
            for kind, names in kinds.items():
                for name in names:
                    if extension and kind in KINDS:
                        found[extension, kind, spelled(kind, name)].add(branch)
    return found


def span(debian: set[str], every: set[str], has: Iterable[str], knows: Iterable[str]) -> str:
    """``8.1..`` since 8.1, ``..8.0`` gone with 8.0, nothing: in all branches looked at.

    The WebAssembly builds lack some libraries; one of them counts only for a symbol that it shares with Debian's
    build of the same branch.
    """
    trusted = set(has) if (set(has) & debian) or not (debian & set(knows)) else set()
    present = debian | trusted
    asked = every | (set(knows) if trusted else set())
    first, last = min(present), max(present)
    before = [branch for branch in asked if branch < first and branch != "5.2"]  # 5.2 is only asked what is gone
    after = [branch for branch in asked if branch > last]
    since = _following(max(before)) if before else ""
    gone = min(after) if after else ""
    return f"{since}..{gone}" if since or gone else ""


def _following(branch: str) -> str:
    """The first branch after one that lacks a symbol: the earliest that can have it."""
    order = ("7.2", "7.3", "7.4", "8.0", "8.1", "8.2", "8.3", "8.4", "8.5")
    return order[order.index(branch) + 1]


def own_extensions(root: Root, branch: str) -> set[str]:
    """The extensions that come from PHP's own source, whose symbols follow PHP's branches."""
    source = root.run("dpkg-query", "-W", "-f", "${Package} ${source:Package}\n")
    packages = [line.split()[0] for line in source.splitlines() if line.split()[-1] == f"php{branch}"]
    files = root.run("dpkg-query", "-L", *packages).split()
    return {Path(file).stem for file in files if file.endswith(".so")}


def main() -> None:
    folder = Path(sys.argv[1] if len(sys.argv) > 1 else "/var/tmp/fundamentum-symbols")
    debian = {DEBIAN[release][0]: debian_report(release) for release in DEBIAN}
    web = web_assembly_reports(folder)
    own: set[str] = set()
    for release, (branch, api) in DEBIAN.items():
        own |= own_extensions(debian_root(release, api, branch), branch)
    own |= {name for report in debian.values() for name in report if name} & {n for r in web.values() for n in r}
    one, two = presence(debian), presence(web)
    by_name: dict[str, list[tuple[str, str, str]]] = defaultdict(list)
    for key in set(one) | set(two):
        by_name[key[2]].append(key)
    out: dict[str, dict[str, dict[str, list[str]]]] = {}
    everywhere: dict[str, set[str]] = defaultdict(set)
    for key in sorted(set(one) | set(two)):
        extension, kind, name = key
        if name in ("exit", "die", "clone"):
            continue  # functions since 8.4, and part of the language before
        if (
            extension in NOT_EXTENSIONS
            or (kind == "classes" and extension == "psr")
            or (extension == "imagick" and key not in one)
        ):
            continue
        extension = {"zend opcache": "opcache"}.get(extension, extension)
        if (
            key not in one
            and key[0] in {name for report in debian.values() for name in report}
            and not two[key] <= {"5.2", "7.2", "7.3", "8.5"}
        ):
            continue  # only in the WebAssembly builds of branches that Debian's builds know better
        having = {branch for branch, report in debian.items() if key[0] in report}
        asking = {branch for branch, report in web.items() if key[0] in report}
        if key[0] in EVERYWHERE:
            asking, having = set(web), set(debian)
        follows = (key[0] in own or key[0] in EVERYWHERE) and name not in OF_LIBRARIES
        when = span(one[key], having, two[key], asking) if follows else ""
        if key[0] in EVERYWHERE and not when:
            if kind in ("functions", "classes"):
                everywhere[kind].add(name)
            continue
        if when.startswith("..") and key[1:] in {k[1:] for k in by_name[name] if k != key}:
            continue  # it only moved to another extension
        out.setdefault(extension, {}).setdefault(kind, {}).setdefault(when, []).append(name)
    document = {
        "everywhere": {kind: " ".join(sorted(names)) for kind, names in everywhere.items()},
        "own": sorted(({"zend opcache": "opcache"}.get(n, n) for n in own if n in {k[0] for k in one}), key=str),
        "extensions": {
            extension: {
                kind: {when: " ".join(names) for when, names in sorted(spans.items())} for kind, spans in kinds.items()
            }
            for extension, kinds in out.items()
        },
    }
    OUTPUT.write_text(json.dumps(document, indent=1, sort_keys=True) + "\n")
    print(f"{len(out)} extensions, {OUTPUT.stat().st_size} bytes")


if __name__ == "__main__":
    main()
