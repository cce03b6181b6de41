"""What is said of directories is what the site itself can do there: rights, groups, access lists and fences at random."""

import http.client
import json
from random import Random

import pytest
from debian_root import Root

from fundamentum.check.judge import check
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.survey.observe import survey
from tests.around import needs

from .laboratory import running

pytestmark = pytest.mark.real
PORT = 8197
PATHS = [
    *(f"/srv/a/d{n}" for n in range(14)),
    "/srv/a/d1/s",
    "/srv/a/d2/s",
    "/srv/a/link",
    "/opt/x",
    "/var/lib/x",
    "/home/app/data",
]
WANTED = needs("[directories.required]\n" + "".join(f'"{path}" = "writable"\n' for path in PATHS))
SCRIPT = (
    f"<?php $can = []; foreach (json_decode('{json.dumps(PATHS)}') as $path) {{ $can[$path] = "
    '@file_put_contents("$path/probe", "x") !== false; @unlink("$path/probe"); } echo json_encode($can);'
)
MODES = ("755", "775", "770", "777", "1777", "700", "2775", "757", "707", "070", "555", "766")
LISTS = ("u:app:rwx", "g:shared:rwx", "u:www-data:rwx", "u:www-data:---", "m::r-x", "g:www-data:r-x")
FENCES = ("/srv/a:/tmp", "/srv/a/", "/srv/a/d1", "/srv/a:/var/lib/x", "/srv", "/srv/a/d")
OWNERS, GROUPS = ("root", "app", "www-data", "nobody"), ("root", "app", "www-data", "shared")
POOL = "[{name}]\nuser = {user}\n{more}listen = {socket}\nlisten.owner = www-data\nlisten.group = www-data\npm = static\npm.max_children = 1\n"
NGINX = "server {{ listen 127.0.0.1:{port}; server_name a; root /srv/a; index index.php; location ~ \\.php$ {{ include snippets/fastcgi-php.conf; fastcgi_pass unix:{socket}; }} }}\n"
APACHE = """\
Listen 127.0.0.1:{port}
ServerName none
DirectoryIndex index.php
<VirtualHost 127.0.0.1:{port}>
ServerName a
DocumentRoot /srv/a
{fence}
</VirtualHost>
<Directory /srv>
Require all granted
</Directory>
"""


def configuration(dice: Random, server: str) -> dict[str, str]:
    """One site; with nginx, in a pool whose processes may have another group than their user."""
    fence = dice.choice(FENCES) if dice.random() < 0.4 else ""
    if server == "apache":
        line = f"php_admin_value open_basedir {fence}" if fence else ""
        return {"/etc/apache2/sites-enabled/site.conf": APACHE.format(port=PORT, fence=line)}
    more = dice.choice(("", "group = shared\n", "group = www-data\n"))
    more += f"php_admin_value[open_basedir] = {fence}\n" if fence else ""
    folder, socket = "/etc/php/{branch}/fpm/pool.d", dice.choice(("/run/php/php8.2-fpm.sock", "/run/php/app.sock"))
    return {
        f"{folder}/zz-laboratory.conf": POOL.format(
            name="www", user="www-data", more="", socket="/run/php/php8.2-fpm.sock"
        ),
        f"{folder}/app.conf": POOL.format(name="app", user="app", more=more, socket="/run/php/app.sock"),
        "/etc/nginx/sites-enabled/site": NGINX.format(port=PORT, socket=socket),
    }


def commands(dice: Random) -> list[str]:
    """What makes users, groups and directories."""
    found = ["groupadd -f shared", "useradd -m app", f"chmod {dice.choice(('755', '750', '711'))} /home/app"]
    found += [f"usermod -aG {dice.choice(('shared', 'www-data'))} app"] if dice.random() < 0.4 else []
    for path in PATHS:
        if path == "/srv/a/link":
            found.append(f"ln -s {dice.choice(('/opt/x', 'd3', '/nowhere', '../a/d5'))} {path}")
            continue
        found.append(f"mkdir -p {path}; chown {dice.choice(OWNERS)}:{dice.choice(GROUPS)} {path}")
        found.append(f"chmod {dice.choice(MODES)} {path}")
        found += [f"setfacl -m {dice.choice(LISTS)} {path} || :"] if dice.random() < 0.15 else []
    return found


def answered() -> dict[str, bool] | None:
    """The paths, and whether the site can write there; None where it does not answer."""
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    connection.request("GET", "/index.php", headers={"Host": "a"})
    text = connection.getresponse().read().decode()
    return json.loads(text) if text.startswith("{") else None


@pytest.mark.parametrize("seed", range(1, 9))
@pytest.mark.parametrize("server", ["nginx", "apache"])
def test_no_directory_is_said_to_be_writable_that_is_not(server: str, seed: int) -> None:
    dice = Random(seed)
    files = {**configuration(dice, server), "/srv/a/index.php": SCRIPT}

    def prepared(root: Root) -> None:
        root.run("sh", "-c", "\n".join(commands(dice)))

    with running("bookworm", files, server, PORT, prepared=prepared) as root:
        answer = answered()
        surveyed = survey(DirectoryHost(root.path, "laboratory"), asked_by([WANTED]))
    verdicts = {
        str(finding.need).removeprefix("directory:"): finding.verdict
        for finding in check(WANTED, surveyed, "a").findings
    }
    assert (answer is None) == (verdicts["php"] == "unmet")
    if answer is not None:
        assert [path for path, can in answer.items() if verdicts[path] == "met" and not can] == []
        inside = [path for path in ("/srv/a/d1", "/srv/a/d2") if answer[path]]  # of which a part may be closed
        refused = {path for path, can in answer.items() if can and verdicts[path] == "unmet"}
        assert len(refused - {*inside, "/srv/a/link"}) == 0
