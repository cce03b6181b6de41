"""The needs file that is derived, and deriving again over one that a person has edited."""

from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamentum.derive.derive import derive
from fundamentum.derive.needs_file import as_needs, rederived, written
from fundamentum.derive.result import Derived, Entry, Place
from fundamentum.kinds.databases.way import DatabaseNeed
from fundamentum.kinds.extensions import ExtensionNeed
from fundamentum.kinds.settings.setting_verdict import SettingNeed
from fundamentum.model.need_id import NeedId
from fundamentum.model.needs import Needs
from fundamentum.model.safe_text import scrubbed
from fundamentum.needs.file import parse

from .trees import made, told

FILES = {
    "composer.json": '{"name": "observatory/nightlog", "version": "3.2", "require": {"php": ">=8.1"}}',
    "a.php": "imagesx(1); if (extension_loaded('intl')) { collator_create('x'); } ini_set('memory_limit', '256M');",
    "b.php": "switch ($k) { case 'pgsql': new PDO('pgsql:host=x'); break; default: new PDO('mysql:host=x'); }",
}


def around(needs: Needs) -> list[Any]:
    """The needs beside PHP's own extensions and settings."""
    return [need for need in needs.needs if need.key.partition(":")[0] not in ("php", "extension", "loader", "setting")]


def test_a_derived_file_is_a_needs_file_with_evidence(tmp_path: Path) -> None:
    needs = parse(written(told(tmp_path, FILES)), "nightlog.needs.toml")
    assert (needs.name, needs.version, str(needs.php)) == ("nightlog", "3.2", ">=8.1")
    assert {need.key: need.level for need in needs.of(ExtensionNeed)} == {
        "extension:gd": "required",
        "extension:pdo_mysql|pdo_pgsql": "required",
        "extension:intl": "recommended",
    }
    assert [(need.name, need.condition.text, need.level) for need in needs.of(SettingNeed)] == [
        ("memory_limit", ">= 256M", "recommended")
    ]
    assert needs.note(NeedId("extension:gd")) == "derived: used without a check in one file (a.php:1 imagesx())"
    assert as_needs(derive(tmp_path)) == needs


def test_what_was_not_read_stands_in_the_file_until_it_is(tmp_path: Path) -> None:
    whole = told(tmp_path, FILES)
    unread = Entry("unread", ("files",), "required", "reading stopped", "reading stopped: that may need more", ())
    first = written(msgspec.structs.replace(whole, entries=(*whole.entries, unread)))
    assert '[unread]\nfiles = "reading stopped"' in first
    again = rederived(first, "a", whole)
    assert again.changes == ("removed unread:files: required reading stopped",)
    assert again.text == written(whole)


def test_versions_of_databases_are_derived_again(tmp_path: Path) -> None:
    files = FILES | {"README.md": "# Requirements\n\n- MySQL 8.0 or MariaDB 10.6\n"}
    first = written(told(tmp_path, files))
    (need,) = parse(first, "a").of(DatabaseNeed)
    assert need.text == "mariadb >=10.6 | mysql >=8.0 | postgresql"
    assert rederived(first, "a", derive(tmp_path)).changes == ()
    again = rederived(first, "a", told(tmp_path, {"README.md": files["README.md"].replace("10.6", "10.11")}))
    assert again.kept == ()
    (change,) = again.changes
    assert change.endswith(
        "mariadb >=10.6 | mysql >=8.0 | postgresql -> recommended mariadb >=10.11 | mysql >=8.0 | postgresql"
    )


EDITS = [  # what a person changes in the file, what is kept, what follows the new derivation
    (('required = ["gd"', 'required = ["curl", "gd"'), "extension:curl: required, not derived", "curl"),
    (('"gd", ', ""), "extension:gd: removed, though derived as required", "pdo_mysql"),
    (('recommended = ["intl"]', 'recommended = ["intl", "sodium"]'), "extension:sodium: recommended, not derived", "sodium"),
    ((">= 256M", ">= 1G"), "setting:memory_limit: recommended >= 1G, though derived as recommended >= 256M", ">= 1G"),
    (('version = ">=8.1"', 'version = ">=8.2"'), "php: >=8.2, though derived as >=8.1", ">=8.2"),
]  # fmt: skip


@pytest.mark.parametrize(("edit", "kept", "there"), EDITS)
def test_a_person_s_change_stays(tmp_path: Path, edit: tuple[str, str], kept: str, there: str) -> None:
    derived = told(tmp_path, FILES)
    text = written(derived)
    head, memory = text.split("[derived]")
    assert edit[0] in head
    new = rederived(f"# mine\n{head.replace(*edit, 1)}[derived]{memory}", "x.needs.toml", derived)
    assert (new.kept, new.changes) == ((kept,), ())
    assert new.text.startswith("# mine\n")
    assert there in new.text.split("[notes]")[0]
    assert rederived(new.text, "x.needs.toml", derived).text == new.text


def test_what_is_not_the_person_s_follows_the_new_derivation(tmp_path: Path) -> None:
    text = written(told(tmp_path, FILES)).replace(
        '"extension:intl" = "derived: ', '"extension:intl" = "names of stars: '
    )
    made(tmp_path, {"a.php": "collator_create('x'); mb_strlen(1); ini_set('memory_limit', '512M');"})
    new = rederived(text, "x.needs.toml", derive(tmp_path))
    assert set(new.changes) == {
        "added extension:mbstring: required",
        "changed extension:intl: recommended -> required",
        "changed setting:memory_limit: recommended >= 256M -> recommended >= 512M",
        "removed extension:gd: required",
    }
    needs = parse(new.text, "x.needs.toml")
    assert {need.key for need in needs.of(ExtensionNeed)} == {
        "extension:intl",
        "extension:mbstring",
        "extension:pdo_mysql|pdo_pgsql",
    }
    assert (needs.note(NeedId("extension:intl")) or "").startswith("names of stars: ")


def test_a_file_written_by_hand_keeps_everything_and_gains_what_is_new(tmp_path: Path) -> None:
    text = (
        'format = 1\n[application]\nname = "nightlog" # ours\n[extensions]\nrequired = ["gd"]\nrecommended = ["imap"]\n'
    )
    new = rederived(text, "x.needs.toml", told(tmp_path, FILES))
    assert "# ours" in new.text
    assert "extension:imap: recommended, not derived" in new.kept
    assert {need.key for need in parse(new.text, "x").of(ExtensionNeed)} >= {
        "extension:gd",
        "extension:imap",
        "extension:intl",
    }


ODD = st.text(st.characters(codec="utf-8"), max_size=40)


@given(st.lists(st.builds(Place, ODD, st.integers(0, 9), ODD, ODD), max_size=3), ODD, ODD)
def test_whatever_stands_in_file_names_and_code_the_file_can_be_read(
    places: list[Place], rule: str, version: str
) -> None:
    entry = Entry("extension", ("gd",), "required", "", rule, tuple(places))
    needs = parse(written(scrubbed(Derived("x", version.strip(), (entry,), (), 1, 1, 1, ()))), "x")
    assert [need.key for need in needs.of(ExtensionNeed)] == ["extension:gd"]


def test_surroundings_are_written_and_a_person_s_words_about_them_kept(tmp_path: Path) -> None:
    tree = {
        "index.php": "<?php new PDO('pgsql:host=x'); exec('git log'); exec('convert.exe a b'); is_writable(__DIR__ . '/var/plates');",
        ".user.ini": "upload_max_filesize = 64M\n",
    }
    derived = told(tmp_path, tree)
    text = written(derived)
    needs = parse(text, "f")
    assert [one.key for one in around(needs)] == [
        "function:exec", "uploads:largest", "database:postgresql", "command:convert", "command:git", "directory:var/plates",
    ]  # fmt: skip
    assert {one.level for one in around(needs)} == {"recommended"}
    edited = text.replace('"git"]', '"git >= 2.30"]').replace('largest = "64M"', 'largest = "90M"')
    again = rederived(edited, "f", derived)
    assert again.changes == ()
    assert [one.text for one in around(parse(again.text, "f"))[1:5]] == ["90M", "postgresql", "convert", "git >=2.30"]


def test_a_module_of_the_web_server_that_a_document_speaks_of(tmp_path: Path) -> None:
    tree = {"index.php": "<?php echo 1;", "README.md": "# Nightlog\n\n## Requirements\n\n- Apache with mod_rewrite\n"}
    derived = told(tmp_path, tree)
    text = written(derived)
    assert 'recommended_modules = ["rewrite"]' in text
    required = rederived(text.replace("recommended_modules", "modules"), "f", derived)
    assert required.kept == ("web:module:rewrite: required, though derived as recommended",)
    assert 'modules = ["rewrite"]' in required.text and "recommended_modules" not in required.text
    gone = rederived(text, "f", msgspec.structs.replace(derived, entries=()))
    assert gone.changes == ("removed web:module:rewrite: recommended",)
    back = rederived(gone.text, "f", derived)
    assert back.changes == ("added web:module:rewrite: recommended",)
    assert parse(back.text, "f") == parse(text, "f")


PLATFORM = """{"name": "observatory/nightlog", "require": {"php": ">=8.1", "php-64bit": "*", "ext-redis": "^5.3 || ^6.0",
 "ext-json": "^8.0", "lib-icu": ">=60", "lib-curl": ">=7.61 <9"}, "conflict": {"ext-xdebug": "*", "ext-uopz": "<7"}}"""
LOCK = '{"packages": [{"name": "observatory/plates", "require": {"lib-icu": ">=65", "ext-redis": ">=5.3.4"}}]}'


def test_what_a_manifest_states_of_the_platform(tmp_path: Path) -> None:
    derived = told(tmp_path, {"composer.json": PLATFORM, "composer.lock": LOCK, "a.php": ""})
    text = written(derived)
    for line in (
        "bits = 64",
        '"redis >=5.3.4, <7"',
        'absent = ["xdebug"]',
        'required = ["icu >=65", "libcurl >=7.61, <9"]',
        '[services]\nrecommended = ["redis | valkey"]',
    ):
        assert line in text
    assert '"json' not in text and "uopz" not in text
    again = rederived(text, "nightlog.needs.toml", derived)
    assert (again.changes, again.kept) == ((), ())
    edited = text.replace('"icu >=65"', '"icu >=70"').replace('absent = ["xdebug"]', "absent = []")
    kept = rederived(edited, "nightlog.needs.toml", derived).kept
    assert kept == (
        "absent:xdebug: removed, though derived as required",
        "library:icu: required >=70, though derived as required >=65",
    )
