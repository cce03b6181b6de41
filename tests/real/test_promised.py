"""Plans for servers that many places configure, made at random: what is promised is so, and no neighbour changes unseen."""

from pathlib import Path
from random import Random
from typing import Any

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.model.needs import Needs
from fundamentum.plan.planner import plan
from fundamentum.survey.observe import survey
from tests.sites.cases import RELEASES
from tests.sites.merged import apache, ini, lines, nginx
from tests.small_root import TODAY, needs

from .laboratory import REPORT, asked, running
from .test_carried_out import carried_out

pytestmark = pytest.mark.real
PORT = 8193
SERVERS = [("bookworm", 32), ("trixie", 22), ("bookworm", 66), ("bookworm", 98), ("trixie", 129), ("bookworm", 232)]
CONDITIONS = {
    "memory_limit": (">= 512M", ">= 96M"), "max_input_vars": (">= 5000", ">= 1000"), "post_max_size": (">= 40M",),
    "upload_max_filesize": (">= 250M", ">= 20M"), "session.gc_maxlifetime": (">= 7200",), "allow_url_fopen": ("On",),
    "short_open_tag": ("On", "Off"), "display_errors": ("Off",), "expose_php": ("Off",), "default_charset": ("= utf-8",),
}  # fmt: skip
LEFT = {"disable_functions"}
"""What is added to with each restart of the laboratory's process manager."""


def with_neighbour(server: str, seed: int, branch: str) -> dict[str, str]:
    """A server made at random, and a second site on it that sets something of its own."""
    dice, names = Random(seed), ("a/sub", "b")
    files = (nginx if server == "nginx" else apache)(seed, PORT, branch)
    files |= {f"/srv/{name}/other.php": REPORT for name in names}
    if server == "nginx":
        php = f"include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php{branch}-fpm.sock;"
        inner = f"server_name b; root /srv/b; location ~ \\.php$ {{ {php} }}"
        files["/etc/nginx/sites-enabled/two"] = f"server {{ listen 127.0.0.1:{PORT}; {inner} }}\n"
    else:
        inner = f"ServerName b\nDocumentRoot /srv/b\n{lines(dice) if dice.random() < 0.5 else ''}"
        files["/etc/apache2/sites-enabled/two.conf"] = f"<VirtualHost 127.0.0.1:{PORT}>\n{inner}</VirtualHost>\n"
    return files | ({"/srv/b/.user.ini": ini(dice, 2)} if dice.random() < 0.5 else {})


def answers() -> dict[str, dict[str, Any]]:
    """All settings, as both sites have them."""
    return {site: asked(PORT, site).get("ini", {}) for site in ("a", "b")}


def kept(root: Root) -> dict[Path, bytes]:
    """Every file of configuration, and of the sites."""
    return {
        path: path.read_bytes()
        for top in ("etc", "srv")
        for path in (root.path / top).rglob("*")
        if path.is_file() and not path.is_symlink()
    }


def wanted(seed: int) -> Needs:
    dice = Random(seed)
    chosen = {name: dice.choice(CONDITIONS[name]) for name in dice.sample(list(CONDITIONS), 4)}
    return needs(settings="[settings.required]\n" + "".join(f'"{k}" = "{v}"\n' for k, v in chosen.items()))


@pytest.mark.parametrize("server", ["nginx", "apache"])
@pytest.mark.parametrize(("release", "seed"), SERVERS)
def test_what_is_promised_is_so_on_any_server(release: str, seed: int, server: str) -> None:
    application = wanted(seed)
    with running(release, with_neighbour(server, seed, RELEASES[release]), server, PORT) as root:
        before, files = answers(), kept(root)
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        made = plan([application], surveyed, "a", today=TODAY)
        if made.empty:
            assert check(application, surveyed, "a").satisfied or made.unresolved
            return
        carried_out(root, made)  # which fails where the site itself has anything else than was promised
        left = {unresolved.need for unresolved in made.unresolved}
        anew = survey(DirectoryHost(root.path, "laboratory", live=True))
        after, judged = answers(), check(application, anew, "a")
        assert all(finding.verdict == "met" or finding.need in left for finding in judged.findings)
        told = {effect.name for effect in made.others if effect.site == "b"}
        neighbour = {name for name, value in before["b"].items() if after["b"].get(name) != value}
        assert neighbour - LEFT <= told
        assert plan([application], anew, "a", today=TODAY).empty
        root.run("sh", "/root/plan.sh", "--undo")
        assert kept(root) == files
