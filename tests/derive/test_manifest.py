"""What an application's manifests state."""

import json
from pathlib import Path

import pytest

from fundamentum.derive.beside.manifest import read_manifests
from fundamentum.derive.beside.stated import Manifest

from .trees import levels, made, told


def read(root: Path, files: dict[str, object]) -> Manifest:
    made(root, {path: text if isinstance(text, str) else json.dumps(text, indent=1) for path, text in files.items()})
    return read_manifests(root, sorted(files))


def said(manifest: Manifest) -> set[tuple[str, str, str]]:
    return {(stated.extension, stated.level, stated.by) for stated in manifest.statements}


def test_own_needs_and_those_of_libraries_but_not_of_tools_for_developers(tmp_path: Path) -> None:
    own = {
        "name": "observatory/nightlog",
        "version": "3.2",
        "require": {"php": ">=8.1", "ext-PDO": "*", "lib-icu": ">=60", "maker/thing": "^1"},
        "require-dev": {"ext-xdebug": "*"},
        "suggest": {"ext-sodium": "sealed notes"},
    }
    lock = {
        "packages": [{"name": "maker/thing", "require": {"ext-mbstring": "*", "php": "^8.0"}}],
        "packages-dev": [{"name": "maker/tool", "require": {"ext-dom": "*"}}],
    }
    manifest = read(tmp_path, {"composer.json": own, "composer.lock": lock})
    assert (manifest.name, manifest.version, manifest.php, manifest.php_where) == (
        "nightlog",
        "3.2",
        ">=8.1",
        "composer.json:5",
    )
    assert said(manifest) == {
        ("pdo", "required", "the application"),
        ("intl", "required", "the application"),
        ("sodium", "recommended", "the application"),
        ("mbstring", "required", "maker/thing"),
    }
    assert manifest.development == {"vendor/maker/tool"}


def test_what_a_package_provides_is_taken_off(tmp_path: Path) -> None:
    installed = [
        {"name": "maker/thing", "require": {"ext-mbstring": "*", "ext-ctype": "*"}},
        {"name": "maker/mbstring", "provide": {"ext-mbstring": "*"}},
    ]
    manifest = read(
        tmp_path, {"vendor/composer/installed.json": installed, "composer.json": {"replace": {"ext-ctype": "*"}}}
    )
    assert said(manifest) == set()
    assert dict(manifest.provided) == {"mbstring": "maker/mbstring", "ctype": "the application"}


ARCHIVES = [
    """<package xmlns="urn:observatory:package-2.0"><name>Chart</name><version><release>1.2</release></version>
    <dependencies><required><php><min>7.2</min><max>8.3</max><exclude>8.0.0</exclude></php><extension><name>xml</name>
    </extension></required><optional><extension><name>gd</name></extension></optional></dependencies></package>""",
    """<package version="1.0"><name>Chart</name><release><version>1.2</version><deps><dep type="php" rel="ge" version="7.2"/>
    <dep type="php" rel="le" version="8.3"/><dep type="php" rel="ne" version="8.0.0"/><dep type="ext" rel="has">xml</dep>
    <dep type="ext" rel="has" optional="yes">gd</dep></deps></release></package>""",
]


@pytest.mark.parametrize("text", ARCHIVES)
def test_the_descriptor_of_the_older_library_archive(tmp_path: Path, text: str) -> None:
    manifest = read(tmp_path, {"package.xml": text})
    assert (manifest.name, manifest.version, manifest.php) == ("Chart", "1.2", ">=7.2 <=8.3 !=8.0.0")
    assert said(manifest) == {("xml", "required", "the application"), ("gd", "recommended", "the application")}


BROKEN = ["{", "[]", '{"require": []}', '{"require": {"php": "eight"}}', "[" * 100_000, '{"require": {"ext-gd": 1}}']


@pytest.mark.parametrize("text", BROKEN)
def test_a_broken_manifest_is_remarked_and_nothing_else_is_lost(tmp_path: Path, text: str) -> None:
    derived = told(tmp_path, {"composer.json": text, "a.php": "imagesx(1);"})
    assert levels(derived) == {"gd": "required"}
    assert all(remark.startswith("composer.json") for remark in derived.remarks)


def test_entities_of_a_descriptor_are_not_followed(tmp_path: Path) -> None:
    (tmp_path / "secret").write_text("hidden")
    text = f'<!DOCTYPE p [<!ENTITY e SYSTEM "file://{tmp_path}/secret">]><package><name>&e;</name></package>'
    assert "hidden" not in read(tmp_path, {"package.xml": text}).name
