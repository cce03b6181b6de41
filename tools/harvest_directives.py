"""Harvest what Apache's modules understand into ``webservers/apache2/directives.json``.

    sudo python tools/harvest_directives.py RELEASE...

For each Debian release: Apache with every module that its package brings, and one after the other with those of the
packages ``libapache2-mod-*`` that can be installed.  ``apache2 -L`` lists the directives of all that are loaded, with
where each may stand.  What one release knows, is known.
"""

import json
import re
import sys
from collections import defaultdict
from pathlib import Path

from debian_root import STORE, Root, with_libraries

OUTPUT = Path(__file__).parents[1] / "src/fundamentum/webservers/apache2/directives.json"
ENTRY = re.compile(r"^(<?\w+) \((\w+)\.c\)\n((?:\t.*\n)*)", re.M)
MPMS = ("mpm_event", "mpm_prefork", "mpm_worker")
SOURCES = {"util_ldap": "mod_ldap", **{name.removeprefix("mpm_"): f"mod_{name}" for name in MPMS}}
"""What a module calls itself → what it is loaded as, where that differs."""
UNPACKED = "for file in /var/cache/apt/archives/*.deb; do dpkg-deb --fsys-tarfile $file | tar -x --keep-directory-symlink -C /; done; rm -f /var/cache/apt/archives/*.deb; ldconfig"
"""Nothing of them is set up: that would fail for some, and nothing could be installed after those."""
CLASSES = ("AuthConfig", "Limit", "Options", "FileInfo", "Indexes")


def classes(about: str) -> str:
    """What ``AllowOverride`` has to include for a directive in a ``.htaccess``; empty: it may not stand there."""
    if "in .htaccess" not in about:
        return ""
    named = re.search(r"when AllowOverride includes (.*)", about)
    words = re.findall(r"\w+", named[1]) if named else CLASSES
    return " ".join(word.lower() for word in words if word in CLASSES)


def listed(root: Root, names: list[str], mpm: str = "mpm_prefork") -> dict[str, dict[str, str]]:
    """Module → directive → its classes, with these modules loaded; nothing if Apache does not load them."""
    folder = "/etc/apache2/mods-available"
    lines = [f"Include {folder}/{name}.load" for name in (mpm, *names)]
    root.write(
        "/root/listed.conf",
        "\n".join(("ServerRoot /etc/apache2", "ServerName localhost", "ErrorLog /dev/null", *lines, "")),
    )
    try:
        said = root.run("apache2", "-L", "-f", "/root/listed.conf")
    except RuntimeError as error:
        print(f"left out: {(mpm, *names)[-1]}: {str(error).splitlines()[-1]}", file=sys.stderr)
        return {}
    found: dict[str, dict[str, str]] = defaultdict(dict)
    for name, module, about in ENTRY.findall(said):
        found[SOURCES.get(module, module)][name] = classes(about)
    return found


def modules_of(root: Root) -> list[str]:
    """All that could be switched on, but those that share out the work, of which there is one."""
    names = (path.stem for path in (root.path / "etc/apache2/mods-available").glob("*.load"))
    return sorted(name for name in names if name not in MPMS)


def loaded_as(root: Root, name: str) -> str:
    """What a module is loaded by, as others are called: not every one calls its source so."""
    text = (root.path / f"etc/apache2/mods-available/{name}.load").read_text()
    plain = re.findall(r"^\s*LoadModule\s+(\w+?)_module", text, re.M)[-1]
    return "mod_php" if re.fullmatch(r"php\d?", plain) else f"mod_{plain}"


def of_release(release: str) -> dict[str, dict[str, str]]:
    """All modules of one release."""
    with with_libraries(release).layer(STORE / f"directives-{release}") as root:
        root.install("apache2")
        brought, known, good = modules_of(root), set[str](), list[str]()
        found = listed(root, brought)
        for name in brought:
            found.setdefault(loaded_as(root, name), {})  # some know no directive
        for mpm in MPMS:
            found |= listed(root, [], mpm)
        for package in root.run("apt-cache", "pkgnames", "libapache2-mod-").split():
            if package.endswith(("-dev", "-doc", "-dbg")):
                continue
            try:
                root.run("apt-get", "install", "-y", "-q", "--no-install-recommends", "--download-only", package)
            except RuntimeError:
                print(f"left out: {package} cannot be installed", file=sys.stderr)
                continue
            root.run("sh", "-ec", UNPACKED)
            for name in sorted(set(modules_of(root)) - set(brought) - known):
                known.add(name)
                alone = listed(root, [*brought, name])
                there = alone or listed(root, [*brought, *good, name])  # it may be a part of another
                good += [name] if alone else []
                for module, directives in {loaded_as(root, name): {}, **there}.items() if there else ():
                    found.setdefault(module if module in found else loaded_as(root, name), {}).update(directives)
        return found


def main(releases: list[str]) -> None:
    """All releases into one file."""
    every: dict[str, dict[str, str]] = defaultdict(dict)
    for release in releases:
        for module, directives in of_release(release).items():
            every[module] |= directives
    table: dict[str, dict[str, list[str]]] = {}
    for module, directives in sorted(every.items()):
        by_classes: dict[str, list[str]] = defaultdict(list)
        for name, where in sorted(directives.items()):
            by_classes[where].append(name)
        table[module] = dict(sorted(by_classes.items()))
    lines = (f"{json.dumps(module)}: {json.dumps(rest)}" for module, rest in table.items())
    OUTPUT.write_text("{\n" + ",\n".join(lines) + "\n}\n")
    print(f"{len(table)} modules, {sum(map(len, every.values()))} directives")


if __name__ == "__main__":
    main(sys.argv[1:])
