"""Uploads, long requests and large forms over HTTP: refused before the plan was carried out, taken after it."""

import json
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from debian_root import Root

from .carried_out import fundamentum, state_of
from .vault import NEEDS, PORTS, ask, form, make_vault, serving, upload

pytestmark = pytest.mark.real
MEGA = 2**20


@pytest.fixture(scope="module")
def vault() -> Iterator[Root]:
    root = make_vault()
    yield root
    shutil.rmtree(root.path, ignore_errors=True)


@pytest.fixture(scope="module")
def needs(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    folder = tmp_path_factory.mktemp("needs")
    for name in PORTS:
        (folder / f"{name}.needs.toml").write_text(NEEDS.format(name=name))
    return {name: folder / f"{name}.needs.toml" for name in PORTS}


def findings(root: Root, needs: Path, site: str) -> dict[str, dict[str, object]]:
    _, out = fundamentum(
        "check", str(needs), "--server", str(root.path), "--runtime", f"{site}.observatory.example", "--format", "json"
    )
    return {load["need"]: load for load in json.loads(out)["applications"][0]["findings"]}


def test_what_is_refused_before_is_taken_after(vault: Root, needs: dict[str, Path]) -> None:
    with serving(vault):
        for site in PORTS:
            assert not upload(site, 24 * MEGA).text.startswith(f"{24 * MEGA}|0|"), site
            assert form(site, 3000).text != "0|none|3000", site
            assert upload(site, 900_000).text == "900000|0|0", site
        assert ask("platevault", "work=4").status == 504
        assert ask("nightlog", "work=4").status in (502, 503, 504)
    narrow = {site: findings(vault, needs[site], site) for site in PORTS}
    least = {
        site: next(link["name"] for link in found["uploads:largest"]["chain"] if link["narrowest"])  # type: ignore[attr-defined]
        for site, found in narrow.items()
    }
    assert least == {
        "platevault": "client_max_body_size",
        "nightlog": "post_max_size",
        "domekeeper": "LimitRequestBody",
    }
    for site in PORTS:
        runtime = ["--server", str(vault.path), "--runtime", f"{site}.observatory.example"]
        code, script = fundamentum("plan", str(needs[site]), *runtime, "--format", "script")
        assert code == 0, site
        vault.write("/root/plan.sh", script)
        before = state_of(vault)
        vault.run("sh", "/root/plan.sh")
        assert state_of(vault) == before
        vault.run("sh", "/root/plan.sh", "--yes")
        after = state_of(vault)
        vault.run("sh", "/root/plan.sh", "--yes")
        assert state_of(vault) == after
        assert fundamentum("check", str(needs[site]), *runtime)[0] == 0
    with serving(vault):
        for site in PORTS:
            assert upload(site, 24 * MEGA).text == f"{24 * MEGA}|0|0", site
            assert form(site, 3000).text == "0|none|3000", site
            assert ask(site, "work=4").text == "worked", site
            assert not upload(site, 40 * MEGA).text.startswith(f"{40 * MEGA}|0|"), "only as much as was wanted"


def test_the_narrowest_link_is_the_one_that_refuses(vault: Root, needs: dict[str, Path]) -> None:
    """Each link made too narrow by itself: the real request fails, and the check names that link."""
    runtime = ["--server", str(vault.path), "--runtime", "platevault.observatory.example"]
    _, script = fundamentum("plan", str(needs["platevault"]), *runtime, "--format", "script")
    vault.write("/root/plan.sh", script)
    vault.run("sh", "/root/plan.sh", "--yes")
    ini, site = "/etc/php/8.2/fpm/conf.d/zzz-narrow.ini", vault.path / "etc/nginx/sites-available/default"
    whole = site.read_text()
    for name, text in (
        ("post_max_size", "post_max_size = 20M"),
        ("upload_max_filesize", "upload_max_filesize = 20M"),
        ("file_uploads", "file_uploads = Off"),
    ):
        vault.write(ini, text + "\n")
        with serving(vault):
            assert not upload("platevault", 24 * MEGA).text.startswith(f"{24 * MEGA}|0|"), name
        found = findings(vault, needs["platevault"], "platevault")["uploads:largest"]
        assert [link["name"] for link in found["chain"] if link["enough"] is False] == [name]  # type: ignore[attr-defined]
    (vault.path / ini.lstrip("/")).unlink()
    site.write_text(whole.replace("location / {", "location / { client_max_body_size 9m;"))
    with serving(vault):
        # A path that is handed to PHP only by the front location is measured there first.
        assert upload("platevault", 24 * MEGA).text.startswith(f"{24 * MEGA}|0|")
    found = findings(vault, needs["platevault"], "platevault")["uploads:largest"]
    assert [(link["name"], link["site"]) for link in found["chain"] if link["enough"] is False] == [  # type: ignore[attr-defined]
        ("client_max_body_size", "platevault.observatory.example location /")
    ]
