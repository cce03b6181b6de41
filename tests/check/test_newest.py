"""Several releases of one application: the newest that a server can run."""

import json
from pathlib import Path

import jsonschema
import pytest

from fundamentum.check.newest import release_key
from tests.cli.program import run
from tests.small_root import small_root, write

ORDER = ["", "1.9", "2.0beta2", "2.0rc1", "2.0", "v2.0.1", "2.1", "2.10", "10"]
NEEDS = 'format = 1\n[application]\nname = "nightlog"\nversion = "{}"\n[extensions]\nrequired = ["{}"]\n[php]\nversion = "{}"\n'


def test_the_order_of_releases() -> None:
    assert sorted(set(ORDER), key=release_key) == ORDER


@pytest.mark.parametrize(
    ("releases", "newest"),
    [
        ([("2.0", "ctype", ">=8.0"), ("2.10", "ctype", ">=8.1"), ("3.0", "ctype", ">=8.4")], "2.10"),
        ([("2.0", "ctype", ">=8.0"), ("2.1", "nosuch", ">=8.0")], "2.0"),
        ([("2.0", "nosuch", ">=8.0")], None),
    ],
)
def test_the_newest_that_runs(tmp_path: Path, releases: list[tuple[str, str, str]], newest: str | None) -> None:
    files: dict[str, str | bytes] = {f"{release[0]}.needs.toml": NEEDS.format(*release) for release in releases}
    write(tmp_path, files)
    root = small_root(
        tmp_path / "root",
        extra={
            "etc/nginx/nginx.conf": "events {}\nhttp { server { server_name a; index index.php; root /srv; location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; } } }\n"
        },
    )
    done = run(tmp_path, "check", *files, "--newest", "--server", str(root))
    last = done.stdout.splitlines()[-1]
    assert last == (f"the newest that runs on mizar: nightlog {newest}" if newest else "none of them runs on mizar")
    assert done.returncode == (0 if newest else 1)
    told = json.loads(run(tmp_path, "check", *files, "--newest", "--server", str(root), "--format", "json").stdout)
    schema = Path(__file__).parents[2] / "src/fundamentum/schemas/newest.schema.json"
    jsonschema.validate(told, json.loads(schema.read_text()))
    assert told["newest"] == (f"{newest}.needs.toml" if newest else None)
