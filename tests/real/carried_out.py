"""Three applications whose needs every release can meet, and how to see that a plan was carried out."""

import hashlib
import json
import subprocess
import sys
from pathlib import Path

from debian_root import BRANCHES, Root

from fundamentum.catalog import canonical
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.needs.file import load

from .running import report

PROGRAM = Path(sys.executable).with_name("fundamentum")
RELEASES = BRANCHES
APPLICATIONS = {
    "nightlog": (
        ["ctype", "dom", "mbstring", "pdo_mysql | pdo_pgsql", "intl"],
        {"memory_limit": ">= 200M", "max_input_vars": ">= 5000"},
    ),
    "platevault": (
        ["exif", "gd", "zip", "curl"],
        {"upload_max_filesize": ">= 200M", "post_max_size": ">= 220M", "memory_limit": ">= 300M"},
    ),
    "domekeeper": (
        ["pdo_sqlite", "soap", "bcmath"],
        {"date.timezone": "= UTC", "session.auto_start": "off", "max_execution_time": ">= 60"},
    ),
}


def needs_files(folder: Path) -> dict[str, Path]:
    """The applications' needs files, written into a folder."""
    for name, (extensions, settings) in APPLICATIONS.items():
        lines = "".join(f'"{key}" = "{value}"\n' for key, value in settings.items())
        text = f'format = 1\n[application]\nname = "{name}"\n[php]\nversion = ">=7.4"\n[extensions]\nrequired = {json.dumps(extensions)}\n[settings.required]\n{lines}'
        (folder / f"{name}.needs.toml").write_text(text)
    return {name: folder / f"{name}.needs.toml" for name in APPLICATIONS}


def fundamentum(*arguments: str) -> tuple[int, str]:
    done = subprocess.run([PROGRAM, *arguments], capture_output=True, text=True, timeout=300)
    assert "Traceback" not in done.stderr
    return done.returncode, done.stdout


def state_of(root: Root) -> dict[str, str]:
    files = (path for folder in ("etc", "usr/lib/php", "var/lib/dpkg/info") for path in (root.path / folder).rglob("*"))
    return {
        str(path): hashlib.sha256(path.read_bytes()).hexdigest()
        for path in sorted(files)
        if path.is_file() and not path.is_symlink()
    }


def confirmed(root: Root, branch: str, application: Path) -> None:
    """The real pool has every extension, and every setting as the plan said."""
    wanted = load(application)
    real = report(root, branch, "fpm", "www")
    loaded = {canonical(name) for name in real["extensions"]}
    for need in wanted.of(ExtensionNeed):
        assert any(canonical(name) in loaded for name in need.names), need.key
    for setting in wanted.of(SettingNeed):
        assert setting.condition.holds(setting.name, str(real["ini"][setting.name] or "")), setting.key
