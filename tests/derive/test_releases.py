"""Two releases of an application side by side, and what was derived as JSON; by the installed program."""

import json
import subprocess
from pathlib import Path

import jsonschema
import pytest

from tests.cli.program import run as program
from tests.small_root import write

OLD = {
    "composer.json": '{"name": "observatory/nightlog", "version": "2.0", "require": {"php": ">=7.4"}}',
    "a.php": "<?php echo mb_strlen('x'); echo json_encode(1);",
    "b.php": "<?php if (function_exists('curl_init')) curl_init();",
}
NEW = {
    "composer.json": '{"name": "observatory/nightlog", "version": "3.0", "require": {"php": ">=8.1"}}',
    "b.php": "<?php curl_init(); echo gmp_add(1, 2);",
}
SCHEMAS = Path(__file__).parents[2] / "src/fundamentum/schemas"


def run(*words: str) -> "subprocess.CompletedProcess[str]":
    return program(Path("/"), *words, COLUMNS="200")


@pytest.fixture
def releases(tmp_path: Path) -> tuple[str, str]:
    for name, files in (("old", OLD), ("new", NEW)):
        write(tmp_path / name, dict(files))
    return str(tmp_path / "old"), str(tmp_path / "new")


def test_what_the_newer_one_needs_otherwise(releases: tuple[str, str]) -> None:
    done = run("derive", *releases)
    assert done.returncode == 1
    lines = [" ".join(line.split()) for line in done.stdout.splitlines()]
    assert lines[0] == "what nightlog 3.0 needs otherwise than nightlog 2.0"
    told = [line for line in lines if line.startswith(("PHP", "extension", "needs", "requires"))]
    assert told == [
        "needs these too (1)",
        "extension gmp required used without a check in one file: b.php:1 gmp_add()",
        "requires what it only recommended (1)",
        "extension curl recommended -> required used without a check in one file: b.php:1 curl_init()",
        "needs these otherwise (1)",
        "PHP >=7.4 -> >=8.1 the manifest states it: composer.json:1 php >=8.1",
        "needs these no more (1)",
        "extension mbstring required used without a check in one file: a.php:1 mb_strlen()",
    ]
    same = run("derive", releases[0], releases[0])
    assert (same.returncode, same.stdout.strip()) == (0, "nightlog 2.0 needs what nightlog 2.0 does")


def test_as_json(releases: tuple[str, str], tmp_path: Path) -> None:
    done = run("derive", *releases, "--format", "json")
    document = json.loads(done.stdout)
    jsonschema.validate(document, json.loads((SCHEMAS / "releases.schema.json").read_text()))
    assert {one["need"]: one["change"] for one in document["changes"]} == {
        "php": "otherwise", "extension:gmp": "new", "extension:curl": "stronger", "extension:mbstring": "gone",
    }  # fmt: skip
    assert done.returncode == 1
    done = run("derive", releases[1], "--format", "json", "-o", str(tmp_path / "a.json"))
    document = json.loads((tmp_path / "a.json").read_text())
    jsonschema.validate(document, json.loads((SCHEMAS / "derive.schema.json").read_text()))
    needs = {one["need"]: (one["level"], one["value"]) for one in document["needs"]}
    assert needs == {
        "php": ("required", ">=8.1"),
        "extension:curl": ("required", ""),
        "extension:gmp": ("required", ""),
    }
    assert done.returncode == 0


@pytest.mark.parametrize(
    ("options", "why"),
    [(("--explain", "gd"), "is about one application"), (("-o", "x"), "writes what one release needs")],
)
def test_options_that_are_for_one_release(releases: tuple[str, str], options: tuple[str, ...], why: str) -> None:
    done = run("derive", *releases, *options)
    assert (done.returncode, why in done.stderr) == (2, True)
