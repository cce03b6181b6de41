"""Package indexes of a real root cut down to what the tests install: apt reads them in a tenth of the time.

Every call of apt-get reads the whole index, two seconds of it for sixty thousand packages, and a plan carried out calls
it a dozen times.  What is left is as the release has it: every package of PHP, of the web servers and of the databases,
what the tests install besides, what a minimal system consists of, and all that any of these depends on.
"""

import re
from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path

INDEXES = "var/lib/apt/lists"
WANTED = re.compile(
    r"(?:php|libapache2-mod|apache2|nginx|mariadb|default-mysql|mysql|redis|memcached|systemd)"
    r"|(?:postgresql|acl|patch|cron|gzip|busybox|python3|python3-apt|libfcgi-bin|git|curl|unzip|ghostscript|imagemagick|ffmpeg)$"
)
ALWAYS = re.compile(r"^(?:Priority: (?:required|important|standard)|Essential: yes)$", re.M)
NEEDED = re.compile(r"^(?:Pre-)?Depends: (.*)$", re.M)
PROVIDED = re.compile(r"^Provides: (.*)$", re.M)
NAME = re.compile(r"[^\s,|:(]+")


def cut_down(root: Path) -> None:
    """Leave in a root's indexes what the tests install, and no translated descriptions."""
    for index in (root / INDEXES).glob("*_Packages"):
        kept = reachable(index.read_text(encoding="utf-8").split("\n\n"))
        index.write_text("".join(f"{stanza}\n\n" for stanza in kept), encoding="utf-8")
        _state_size(index)
    for path in (*(root / INDEXES).glob("*_Translation-*"), *(root / "var/cache/apt").glob("*.bin")):
        path.unlink()


def _state_size(index: Path) -> None:
    """State the size of an index in its release file, by which one that is not whole is told."""
    site, component, architecture, name = index.name.rsplit("_", 3)
    release = index.with_name(f"{site}_InRelease")
    listed = re.compile(rf"^( \w+ +)\d+( {component}/{architecture}/{name})$", re.M)
    text = release.read_text(encoding="utf-8")
    release.write_text(listed.sub(rf"\g<1>{index.stat().st_size}\2", text), encoding="utf-8")


def reachable(stanzas: Iterable[str]) -> list[str]:
    """Stanzas of an index whose packages are wanted, and those that they depend on, whichever alternative is taken."""
    packages: dict[str, list[str]] = defaultdict(list)
    providers: dict[str, list[str]] = defaultdict(list)
    for stanza in stanzas:
        if stanza.startswith("Package: "):
            name = stanza[9:].partition("\n")[0]
            packages[name].append(stanza)
            for virtual in _names(PROVIDED, stanza):
                providers[virtual].append(name)
    todo = [name for name, known in packages.items() if WANTED.match(name) or ALWAYS.search(known[0])]
    kept: dict[str, list[str]] = {}
    while todo:
        name = todo.pop()
        if name not in packages:
            todo += [provider for provider in providers[name] if provider not in kept]
        elif name not in kept:
            kept[name] = packages[name]
            todo += [needed for stanza in packages[name] for needed in _names(NEEDED, stanza)]
    return [stanza for known in packages.values() for stanza in known if stanza[9:].partition("\n")[0] in kept]


def _names(field: re.Pattern[str], stanza: str) -> list[str]:
    """Names of packages in a field of relations, without versions and architectures."""
    return [
        match[0]
        for relations in field.findall(stanza)
        for relation in re.split(r"[,|]", relations)
        if (match := NAME.search(relation))
    ]
