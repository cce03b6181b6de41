"""Real applications on a minimal server: derive what each needs, plan a site for it, run the script, and visit it.

    sudo python tools/close_the_loop.py [COUNT]

Takes packages of web applications that ``tools/measure_derive.py bookworm`` has unpacked, the smallest first, puts the
files of each into a minimal root of Debian, without anything that its package depends on, and asks its start page over
HTTP.  Prints what it answered, and every line of it that speaks of PHP, an extension or a limit as a complaint.
Packages are numbered, not named.
"""

import re
import shutil
import subprocess
import sys
import urllib.error
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).parents[1]))
from debian_root import STORE as ROOTS
from debian_root import Root, base
from measure_derive import STORE
from tests.real.running import end_all

from fundamentum.catalog.symbols import providers

PROGRAM = str(Path(sys.executable).with_name("fundamentum"))
PUBLIC = ("", "public", "www", "htdocs", "web", "html", "site")
LARGEST = 25_000_000
COMPLAINT = re.compile(
    r"[^<>\n]{0,80}(?:undefined (?:function|constant)|class &?[\"']?\w+&?[\"']? not found|PHP (?:version|[\d.]+)[^<>]{0,30}(?:requir|old)|"
    r"extensions?[^<>]{0,30}(?:missing|requir|not (?:loaded|installed|available))|(?:missing|requir)\w*[^<>]{0,30}extension|"
    r"memory_limit|upload_max_filesize|max_execution_time)[^<>\n]{0,80}",
    re.I,
)


class Visit(NamedTuple):
    planned: int
    """How the plan ended: 0, nothing required is left unmet."""
    script: int
    status: int
    said: str
    complaints: tuple[str, ...]


def candidates() -> Iterator[tuple[Path, str]]:
    """Directories of applications with a start page, and where below them it stands."""
    found = []
    for package in (STORE / "bookworm").iterdir():
        folder = package / "usr/share" / package.name
        for public in PUBLIC:
            page = folder / public / "index.php"
            if page.is_file() and page.stat().st_size > 200:
                size = sum(file.lstat().st_size for file in folder.rglob("*") if not file.is_dir())
                found += [(size, folder, public)] if size < LARGEST else []
                break
    yield from ((folder, public) for _, folder, public in sorted(found))


def visited(folder: Path, public: str, work: Path) -> Visit:
    """One application, from its files to an answer."""
    with base("bookworm").layer(ROOTS / "closing-the-loop") as root:
        shutil.copytree(folder, root.path / "srv/application", symlinks=True)
        subprocess.run(["mount", "-t", "proc", "proc", str(root.path / "proc")], check=True)
        try:
            return _visited(root, public, work)
        finally:
            end_all(root)
            subprocess.run(["umount", "-l", str(root.path / "proc")], check=True)


def _visited(root: Root, public: str, work: Path) -> Visit:
    needs = work / "application.needs.toml"
    needs.unlink(missing_ok=True)
    subprocess.run(
        [PROGRAM, "derive", str(root.path / "srv/application"), "-o", str(needs)], check=True, capture_output=True
    )
    with needs.open("a") as file:
        file.write(f'\n[web]\ndocument_root = "{public or "."}"\n')
    site = ["--server", str(root.path), "--site", "application.example", "--directory", "/srv/application"]
    script = work / "plan.sh"
    planned = subprocess.run(
        [PROGRAM, "plan", str(needs), *site, "--format", "script", "-o", str(script)], capture_output=True, text=True
    )
    if planned.returncode not in (0, 1):
        return Visit(planned.returncode, -1, 0, planned.stderr[-300:], ())
    shutil.copy(script, root.path / "root/plan.sh")
    with (root.path / "root/said").open("w") as said:
        ran = subprocess.run(
            ["chroot", str(root.path), "sh", "/root/plan.sh", "--yes"],
            stdin=subprocess.DEVNULL, stdout=said, stderr=said, env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}, timeout=900,
        )  # fmt: skip
    status, text = fetched("/")
    log = "".join(file.read_text("utf-8", "replace") for file in (root.path / "var/log").rglob("*error*.log"))
    complaints = tuple(
        dict.fromkeys(match[0].strip() for match in COMPLAINT.finditer(text + log) if not _its_own(match[0]))
    )
    tail = (root.path / "root/said").read_text()[-400:] if ran.returncode else ""
    fatal = "; ".join(dict.fromkeys(match[0][:160] for match in re.finditer(r"PHP (?:Fatal|Parse) error:.*", log)))
    return Visit(planned.returncode, ran.returncode, status, (tail + fatal[:400] + text[:200]).strip(), complaints)


def _its_own(line: str) -> bool:
    """Whether what is undefined is the application's own, and no extension brings it."""
    match = re.search(r"undefined (function|constant) [\"']?(\w+)|(class) [\"']?([\w\\\\]+)", line, re.I)
    if match is None:
        return False
    kind, name = (match[1] or match[3]).lower(), match[2] or match[4]
    return not providers(kind, name)  # type: ignore[arg-type]


def fetched(path: str) -> tuple[int, str]:
    """What a visitor sees, redirections followed within the site."""
    for _ in range(4):
        request = urllib.request.Request(f"http://127.0.0.1{path}", headers={"Host": "application.example"})
        try:
            opener = urllib.request.build_opener(_Unfollowed)
            with opener.open(request, timeout=60) as answer:
                return answer.status, answer.read().decode("utf-8", "replace")
        except urllib.error.HTTPError as error:
            place = error.headers.get("Location", "")
            if error.code not in (301, 302, 303, 307) or not place:
                return error.code, error.read().decode("utf-8", "replace")
            path = re.sub(r"^https?://[^/]+", "", place)
            path = path if path.startswith("/") else f"/{path}"
        except OSError as error:
            return 0, str(error)
    return 310, "redirected without end"


class _Unfollowed(urllib.request.HTTPRedirectHandler):
    def redirect_request(self, *_: object) -> None:
        return None


def main() -> None:
    work = Path("/var/tmp/fundamentum-closing")
    work.mkdir(exist_ok=True)
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 8
    for number, (folder, public) in enumerate(list(candidates())[:wanted], 1):
        name = folder.name if "--names" in sys.argv else f"application {number}"
        visit = visited(folder, public, work)
        print(
            f"{name}: plan {visit.planned}, script {visit.script}, HTTP {visit.status}; complaints: {list(visit.complaints)[:4]}"
        )
        if visit.script or visit.status != 200:
            print(f"    {visit.said[:600]!r}")


if __name__ == "__main__":
    main()
