"""Hold what is derived from Debian's own packages of PHP code against the extensions that they depend on.

    sudo python tools/measure_derive.py RELEASE [COUNT] [--markdown] [--everything]

Takes every package of the release (or COUNT of them, spread over the sizes) that holds PHP code and depends on an
extension, unpacks it below ``/var/tmp/fundamentum-measured``, derives, and compares.  An extension counts as declared
if the package depends on it, or on a package of PHP code that does; what comes with every PHP of Debian (its ``common``
package and what is compiled in) counts as declared too.  Packages are numbered, not named.  ``--everything`` also parses
every file of each and says where that changes the answer: nowhere, or what is left unparsed is chosen wrongly.
"""

import re
import subprocess
import sys
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import NamedTuple

from debian import deb822
from debian_root import Root, base

from fundamentum.derive.derive import derive
from fundamentum.derive.result import Derived
from fundamentum.errors import InputError

STORE = Path("/var/tmp/fundamentum-measured")
PATIENCE = 300.0
"""Seconds for each derivation: on a busy machine too, what comes out does not hang on the time."""
WITH_CODE = 150
"""Kilobytes from which a package is taken into a sample: smaller ones often only bring others along."""
BRANCHES = {"bullseye": "7.4", "bookworm": "8.2", "trixie": "8.4"}
CARRIED = {  # extensions that Debian's package of another name carries
    **dict.fromkeys("dom simplexml xml xmlreader xmlwriter xsl".split(), "xml"),
    **dict.fromkeys("mysqli pdo_mysql mysqlnd".split(), "mysql"),
    **dict.fromkeys("pgsql pdo_pgsql".split(), "pgsql"),
    **dict.fromkeys("sqlite3 pdo_sqlite".split(), "sqlite3"),
    **dict.fromkeys("odbc pdo_odbc".split(), "odbc"),
    **dict.fromkeys("interbase pdo_firebird".split(), "interbase"),
    "pdo_dblib": "sybase",
    **dict.fromkeys(
        "calendar ctype exif ffi fileinfo ftp gettext iconv pdo phar posix shmop sockets sysvmsg sysvsem sysvshm "
        "tokenizer readline opcache filter hash json libxml openssl pcntl pcre session sodium zlib date".split(),
        "common",
    ),
}  # fmt: skip


class Package(NamedTuple):
    name: str
    size: int
    depends: tuple[tuple[str, ...], ...]
    """Groups of extension packages, of each of which any one is enough."""
    declared: frozenset[str]
    """All that come with it, through other packages of PHP code too."""
    suggested: frozenset[str]


class Comparison(NamedTuple):
    size: int
    required: int
    confirmed: int
    groups: int
    found_required: int
    found: int
    unconfirmed: tuple[str, ...]
    missed: tuple[str, ...]
    changed: tuple[str, ...] = ()
    """Needs that come out otherwise where every file is parsed."""


def carrier(extension: str) -> str:
    """The Debian package, without its prefix, that carries an extension."""
    return CARRIED.get(extension, extension)


class Index:
    """A release's packages."""

    def __init__(self, text: bytes, branch: str) -> None:
        self.packages = {entry["Package"]: entry for entry in deb822.Packages.iter_paragraphs(text, use_apt_pkg=False)}
        prefix = re.compile(rf"php(?:{re.escape(branch)})?-(.+)")
        offered = {
            name
            for name in self.packages
            if name.startswith(f"php{branch}-") or "phpapi-" in self.packages[name].get("Depends", "")
        }
        self.extensions = {match[1] for name in offered if (match := prefix.fullmatch(name))} | {"dom", "json"}
        self.extensions -= {"cli", "fpm", "cgi", "phpdbg", "dev", "common"}
        self.prefix = re.compile(r"php(?:\d\.\d)?-(.+)")

    def groups(self, name: str, field: str) -> list[tuple[str, ...]]:
        """The extension packages in a field of a package."""
        found = []
        for group in self.packages[name].get(field, "").split(","):
            names = [re.sub(r"[\s(:].*", "", part.strip()) for part in group.split("|")]
            known = [match[1] for one in names if (match := self.prefix.fullmatch(one)) and match[1] in self.extensions]
            if known:
                found.append(tuple(sorted({carrier(one) for one in known})))
        return found

    def closure(self, name: str, seen: set[str]) -> set[str]:
        """A package and the packages of PHP code that it depends on."""
        if name in seen or name not in self.packages:
            return seen
        seen.add(name)
        for group in self.packages[name].get("Depends", "").split(","):
            for part in group.split("|"):
                one = re.sub(r"[\s(:].*", "", part.strip())
                if one.startswith(("php", "libphp")) or one.split("-")[0] == name.split("-", maxsplit=1)[0]:
                    self.closure(one, seen)
        return seen

    def applications(self) -> list[Package]:
        """Packages of PHP code that depend on an extension, largest first."""
        out = []
        for name, entry in self.packages.items():
            if "phpapi-" in entry.get("Depends", "") or re.match(r"php\d|libapache2|libphp\d|.*-dev$", name):
                continue
            depends = [group for group in self.groups(name, "Depends") if group != ("common",)]
            if not depends:
                continue
            everything = self.closure(name, set())
            declared = {one for other in everything for group in self.groups(other, "Depends") for one in group}
            declared |= {
                carrier(match[1])
                for other in everything
                if (match := self.prefix.fullmatch(other)) and match[1] in self.extensions
            }
            suggested = {
                one for field in ("Recommends", "Suggests") for group in self.groups(name, field) for one in group
            }
            size = int(entry.get("Installed-Size", "0"))
            out.append(Package(name, size, tuple(depends), frozenset(declared | {"common"}), frozenset(suggested)))
        return sorted(out, key=lambda one: -one.size)


def index_of(root: Root, branch: str) -> Index:
    root.run("apt-get", "update", "-q")
    return Index(root.run("apt-cache", "dumpavail").encode(), branch)


def unpacked(root: Root, packages: Iterable[str], store: Path) -> dict[str, Path]:
    """The packages' files, each below a directory of its own; what cannot be fetched is left out."""
    store.mkdir(parents=True, exist_ok=True)
    script = 'mkdir -p /var/tmp/fetched && cd /var/tmp/fetched && apt-get download -q "$1" >/dev/null 2>&1 || true'
    paths = {}
    for name in packages:
        target = store / name
        if not target.exists():
            root.run("sh", "-ec", script, "sh", name)
            for file in (root.path / "var/tmp/fetched").glob(f"{name}_*.deb"):
                subprocess.run(["dpkg-deb", "-x", str(file), str(target)], check=True)
                file.unlink()
        if target.exists():
            paths[name] = target
    return paths


def compared(package: Package, derived: Derived) -> Comparison:
    """One package's declaration against what was derived."""
    required = [entry for entry in derived.of_kind("extension") if entry.level == "required"]
    confirmed = [e for e in required if any(carrier(name) in package.declared for name in e.names)]
    needs = {carrier(name) for entry in required for name in entry.names}
    every = {carrier(name) for entry in derived.of_kind("extension") for name in entry.names}
    hit = [group for group in package.depends if needs.intersection(group)]
    seen = [group for group in package.depends if every.intersection(group)]
    return Comparison(
        derived.size, len(required), len(confirmed), len(package.depends), len(hit), len(seen),
        tuple("|".join(e.names) for e in required if e not in confirmed),
        tuple("|".join(group) for group in package.depends if group not in seen),
    )  # fmt: skip


def changed_by_the_rest(folder: Path, derived: Derived) -> tuple[str, ...]:
    """The needs that come out otherwise where every file is parsed."""
    return _differing(derived, derive(folder, everything=True, patience=PATIENCE))


def _differing(one: Derived, other: Derived) -> tuple[str, ...]:
    some, every = (
        {(entry.key, entry.level, entry.value, entry.way) for entry in result.entries} for result in (one, other)
    )
    return tuple(sorted({need[0] for need in some ^ every}))


def measured(
    release: str, count: int | None, root: Root | None = None, *, everything: bool = False
) -> Mapping[str, Comparison]:
    """Every package's comparison, largest first."""
    root = root or base(release)
    packages = index_of(root, BRANCHES[release]).applications()
    if count is not None:
        packages = [package for package in packages if package.size >= WITH_CODE]
        packages = packages[:: max(len(packages) // count, 1)][:count]
    folders = unpacked(root, (package.name for package in packages), STORE / release)
    out = {}
    for package in packages:
        if package.name in folders:
            try:
                derived = derive(folders[package.name], patience=PATIENCE)
            except InputError:
                continue  # no PHP code in it: it only brings other packages along
            rest = changed_by_the_rest(folders[package.name], derived) if everything else ()
            out[package.name] = compared(package, derived)._replace(changed=rest)
    return out


def totals(rows: Iterable[Comparison]) -> str:
    rows = list(rows)
    required, confirmed = sum(r.required for r in rows), sum(r.confirmed for r in rows)
    groups, hit, seen = sum(r.groups for r in rows), sum(r.found_required for r in rows), sum(r.found for r in rows)
    return (
        f"{len(rows)} packages, {sum(r.size for r in rows) / 1e6:.0f} MB of PHP: {confirmed} of {required} required confirmed "
        f"({confirmed / max(required, 1):.0%}); of {groups} declared, {hit} required ({hit / max(groups, 1):.0%}), "
        f"{seen} required or recommended ({seen / max(groups, 1):.0%})"
    )


def main() -> None:
    arguments = [word for word in sys.argv[1:] if not word.startswith("-")]
    everything = "--everything" in sys.argv
    rows = measured(arguments[0], int(arguments[1]) if len(arguments) > 1 else None, everything=everything)
    for number, (name, row) in enumerate(sorted(rows.items(), key=lambda item: -item[1].size), 1):
        if row.unconfirmed or row.missed or row.changed:
            shown = f"package {number}" if "--markdown" in sys.argv else name
            print(f"{shown}: {row.size / 1e6:.1f} MB; required {row.confirmed}/{row.required}; declared {row.found}/{row.groups}"
                  f"; not declared: {', '.join(row.unconfirmed) or '-'}; missed: {', '.join(row.missed) or '-'}"
                  + (f"; changed by the rest: {', '.join(row.changed)}" if row.changed else ""))  # fmt: skip
    print(totals(rows.values()))
    if everything:
        print(
            f"{sum(bool(row.changed) for row in rows.values())} packages come out otherwise where every file is parsed"
        )


if __name__ == "__main__":
    main()
