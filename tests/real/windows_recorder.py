"""A stand-in for the recorder in PowerShell: the same steps, read from its own tables, on a directory."""

import fnmatch
import io
import re
import struct
import tarfile
from collections.abc import Iterator
from pathlib import Path
from xml.sax.saxutils import quoteattr

from lxml import etree

from fundamentum.model.surrounding_facts import Asked
from fundamentum.survey.recorder.powershell import script

SECRET = re.compile(r"passw|passwd|_pw$|\.pw$|secret|token|credential|api_?key|license", re.I)
SECRET_VALUE = re.compile(r"://[^/\s:@]*:[^@\s/]+@|(auth|password|passwd|passwort|pwd|secret|token|api_?key)\s*=", re.I)


class Recorder:
    """One run of it."""

    def __init__(self, root: Path, asked: Asked | None = None) -> None:
        text = script(asked).replace("\r\n", "\n")
        self.tables = dict(re.findall(r"^\$(\w+) = @'\n(.*?)\n?'@$", text, re.M | re.S))
        self.root = root
        self.stats: dict[str, str] = {}
        self.contents: list[tuple[str, bytes]] = []
        self.access: list[str] = []

    def words(self, table: str) -> set[str]:
        return set(self.tables[table].split())

    def path(self, name: str) -> Path:
        """With every part as it is spelled there."""
        at = self.root
        for part in name.strip("/").split("/") if name.strip("/") else []:
            inside = {file.name.lower(): file for file in at.iterdir()} if at.is_dir() else {}
            at = inside.get(part.lower(), at / part)
        return at

    def stat(self, name: str) -> None:
        path = self.path(name)
        name = "/" + str(path.relative_to(self.root)) if name else ""
        if name in ("", "/.") or name in self.stats:
            return
        self.stat(name.rpartition("/")[0])
        about = path.stat()
        kind = "41ed 0" if path.is_dir() else f"81a4 {about.st_size}"
        self.stats[name] = f"{kind} {int(about.st_mtime)} {int(about.st_mtime)} 0 0 {name}"

    def folders(self, folder: str, levels: int, skipped: set[str]) -> Iterator[str]:
        yield folder
        self.stat(folder)
        for path in sorted(self.path(folder).iterdir()) if levels else ():
            if path.is_dir() and path.name.lower() in skipped:
                self.stat(f"{folder}/{path.name}")
            elif path.is_dir():
                yield from self.folders(f"{folder}/{path.name}", levels - 1, skipped)

    def run(self) -> bytes:
        skipped = {line.lower() for line in self.tables["Skipped"].splitlines()}
        every = list(self.folders("", 5, skipped))
        php = [
            one
            for one in every
            if any(re.fullmatch(r"php\d(ts)?\.dll", n.name, re.I) for n in self.path(one).iterdir())
        ]
        servers = [one for one in every if one.endswith("/bin") and self.path(f"{one}/httpd.exe").exists()]
        roots = [f"{server[:-4]}/conf" for server in servers if self.path(f"{server[:-4]}/conf").is_dir()]
        conf = [below for one in roots for below in self.folders(one, 3, set())]
        served = list(dict.fromkeys(self.served(conf)))
        sites = [below for one in served for below in self.folders(one, 3, {"vendor", "node_modules"})]
        places = {"<php>": php, "<server>": servers, "<conf>": conf, "<site>": list(dict.fromkeys(sites))}
        for step in self.tables["Steps"].splitlines():
            kind, place, patterns = step.split("\t")
            first = place.split("/")[0]
            for folder in [one + place[len(first) :] for one in places[first]] if first in places else [place]:
                self.take(kind, folder, patterns.split())
        for asked in self.tables["Asked"].split():
            for root in [""] if asked.startswith("/") else served:
                for base in {root, root.rpartition("/")[0]} if root else {""}:
                    self.rights(f"{base}/{asked.strip('/')}")
        return self.archive()

    def served(self, conf: list[str]) -> Iterator[str]:
        main = self.path("/Windows/System32/inetsrv/config/applicationHost.config")
        found = re.findall(r'physicalPath="([^"]+)"', main.read_text()) if main.exists() else []
        for file in (file for folder in conf for file in self.path(folder).glob("*.conf")):
            text = file.read_text()
            defined = dict(re.findall(r'(?im)^\s*define\s+(\w+)\s+"?([^"\r\n]+)"?', text))
            for path in re.findall(r'(?im)^\s*documentroot\s+"?([^"\r\n]+)"?', text):
                for name, value in defined.items():
                    path = path.replace(f"${{{name}}}", value)
                found.append(path)
        for path in found:
            name = path.replace("%SystemDrive%", "C:").replace("\\", "/").removeprefix("C:").rstrip("/")
            if self.path(name).is_dir():
                yield name

    def take(self, kind: str, folder: str, patterns: list[str]) -> None:
        if not self.path(folder).is_dir():
            return
        for pattern in patterns:
            for path in sorted(self.path(folder).iterdir()):
                name = "/" + str(path.relative_to(self.root))
                if path.is_file() and fnmatch.fnmatch(path.name.lower(), pattern.lower()) and name not in self.stats:
                    self.stat(name)
                    if kind != "name":
                        kept = {"binary": program, "xml": self.xml}.get(kind) or (lambda data: self.text(kind, data))
                        self.contents.append((name, kept(path.read_bytes())))

    def text(self, kind: str, data: bytes) -> bytes:
        known, begin = self.words("Directives"), self.words("Lines")
        out = []
        for line in re.split(r"(?<=\n)", data.decode("latin-1")):
            body = line.rstrip("\r\n")
            kept = ini(body, known) if kind == "ini" else ""
            if kind == "hosts" and re.match(r"\s*(127\.|::1)", body):
                kept = body.partition("#")[0]
            if kind == "directives" and (body.split() or [""])[0].lower() in begin and not secret(body):
                kept = body
            out.append(kept + line[len(body) :])
        return "".join(out).encode("latin-1")

    def xml(self, data: bytes) -> bytes:
        elements, attributes = self.words("Elements"), self.words("Attributes")
        out: list[str] = []

        def write(node: etree._Element) -> None:
            if not isinstance(node.tag, str) or node.tag not in elements:
                return
            if node.tag == "environmentVariable" and node.get("name") not in (
                "PHPRC", "PHP_INI_SCAN_DIR", "PHP_FCGI_MAX_REQUESTS",
            ):  # fmt: skip
                return
            out.append("\n" * (node.sourceline - 1 - "".join(out).count("\n")))
            pairs = {
                name: "(withheld)" if secret(value) else value for name, value in node.items() if name in attributes
            }
            out.append(f"<{node.tag}{''.join(f' {n}={quoteattr(v)}' for n, v in pairs.items())}>")
            for below in node:
                write(below)
            out.append(f"</{node.tag}>")

        write(etree.fromstring(data))
        return "".join(out).encode()

    def rights(self, name: str) -> None:
        if self.path(name).is_dir():
            self.stat(name)
            self.access += [
                f"allow\t7\t\tIIS AppPool\\DefaultAppPool\t{name}",
                f"allow\t5\tS-1-5-32-545\tBUILTIN\\Users\t{name}",
            ]

    def archive(self) -> bytes:
        members = {"format": "1\n", "system": "windows\n", "hostname": "DENEB\n", "visit": "1764000000 0\n"}
        members["stats"] = "".join(f"{line}\n" for line in self.stats.values())
        members["contents"] = "".join(f"{n}\t{len(d)}\t{p}\n" for n, (p, d) in enumerate(self.contents, 1))
        members["access"] = "".join(f"{line}\n" for line in self.access)
        whole = {name: text.encode() for name, text in members.items()}
        whole |= {f"content/{number}": data for number, (_, data) in enumerate(self.contents, 1)}
        packed = io.BytesIO()
        with tarfile.open(fileobj=packed, mode="w:gz", format=tarfile.USTAR_FORMAT) as tar:
            for name, data in whole.items():
                about = tarfile.TarInfo(name)
                about.size = len(data)
                tar.addfile(about, io.BytesIO(data))
        return packed.getvalue()


def secret(text: str) -> bool:
    return SECRET_VALUE.search(text) is not None


def ini(line: str, known: set[str]) -> str:
    """One line of a php.ini, or nothing of it."""
    if re.match(r"\s*\[", line):
        return line
    commented = re.match(r"\s*;", line) is not None
    match = re.match(r"\s*([A-Za-z_][A-Za-z0-9_.\[\]]*)\s*=(.*)$", re.sub(r"^\s*;\s*", "", line))
    if not match or (commented and match[1] not in known):
        return ""
    if SECRET.search(match[1]) or secret(match[2]):
        return "" if commented else f"{match[1]} = (withheld)"
    return line


def program(data: bytes) -> bytes:
    """A program without its machine code."""
    out = bytearray(data)
    if len(data) < 256 or data[:2] != b"MZ":
        return data
    head = struct.unpack_from("<i", data, 0x3C)[0]
    count, optional = struct.unpack_from("<H", data, head + 6)[0], struct.unpack_from("<H", data, head + 20)[0]
    for number in range(count):
        at = head + 24 + optional + 40 * number
        size, start = struct.unpack_from("<II", data, at + 16)
        if struct.unpack_from("<I", data, at + 36)[0] & 0x20000000 and start + size <= len(data):
            out[start : start + size] = bytes(size)
    return bytes(out)
