"""What a plan promises for a site is so once its script has run: the site itself is asked, and its neighbour."""

import time
from typing import Any

import pytest
from debian_root import Root
from msgspec.structs import replace

from fundamentum.changes.pool import AddPool
from fundamentum.hosts.directory import DirectoryHost
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.sites.cases import CASES, FPM, UNKNOWN, files_of
from tests.small_root import TODAY, needs

from .laboratory import asked, running

pytestmark = pytest.mark.real
PORT = 8163
BRANCH = "8.2"
WANTED = {"memory_limit": "512M", "max_input_vars": "5000", "max_file_uploads": "44"}
NEEDS = needs(settings="[settings.required]\n" + "".join(f'{k} = ">= {v}"\n' for k, v in WANTED.items()))
PLANNED = list(CASES)[::3]
OPEN = (
    "request",
    "map",
    "variable",
    "some",
    "expression",
    "condition",
    "sent several",
    "sent both",
    "the document root",
)
"""Ways of which a plan owns up to what it cannot change: what a request, a table or a variable decides, a text over several lines."""


def planned(root: Root) -> Plan:
    return plan([NEEDS], survey(DirectoryHost(root.path, "laboratory", live=True)), "a", today=TODAY)


def carried_out(root: Root, made: Plan) -> None:
    root.write("/root/plan.sh", as_script(made))
    root.run("sh", "/root/plan.sh", "--yes")


def now(site: str) -> dict[str, Any]:
    """All settings, as a site says that they are."""
    answer = asked(PORT, site)
    return answer.get("ini", answer)  # type: ignore[no-any-return]


def comes_to(wanted: dict[str, str], site: str) -> bool:
    """Whether a site has these values, some time after its services were told to read their files."""
    for _ in range(40):
        try:
            if {name: now(site).get(name) for name in wanted} == wanted:
                return True
        except OSError:
            pass
        time.sleep(0.1)
    return False


@pytest.mark.parametrize("name", PLANNED)
def test_what_is_promised_is_so(name: str) -> None:
    server, files = files_of(name, BRANCH, PORT)
    with running("bookworm", files, server, PORT) as root:
        before = now("b")
        made = planned(root)
        owned_up = name in UNKNOWN or any(word in name for word in OPEN) or "failing" in now("a")
        assert made.complete or owned_up, made.unresolved
        if not made.complete:
            return
        carried_out(root, made)
        assert comes_to(WANTED, "a"), (now("a"), as_script(made))
        after = now("b")
        changed = {key for key in before if before[key] != after[key]}
        assert changed <= {effect.name for effect in made.others if effect.site == "b"} | {"disable_functions"}
        assert not planned(root).edits and not planned(root).files


def test_two_applications_of_one_pool_get_both_what_they_need() -> None:
    """Each site has a file of its own; one plan for both."""
    files = {
        "/srv/a/.user.ini": "memory_limit = 100M\n",
        "/srv/b/.user.ini": "memory_limit = 90M\nmax_input_vars = 70\n",
    }
    server, more = files_of("fpm: nothing", BRANCH, PORT)
    with running("bookworm", {**more, **files}, server, PORT) as root:
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        for site, limit in (("a", "300M"), ("b", "200M")):
            wanted = needs(settings=f'[settings.required]\nmemory_limit = ">= {limit}"\n')
            carried_out(root, plan([wanted], surveyed, site, today=TODAY))
        assert comes_to({"memory_limit": "300M"}, "a")
        assert comes_to({"memory_limit": "200M", "max_input_vars": "70"}, "b")


OWN_POOL = """\
[app]
user = app
{group}listen = /run/php/app.sock
listen.owner = www-data
pm = static
pm.max_children = 1
php_admin_value[max_input_vars] = 7000
php_admin_value[open_basedir] = /srv:/tmp
php_flag[display_errors] = on
"""
SITES = "".join(
    f"server {{\n listen 127.0.0.1:{PORT};\n server_name {name};\n root /srv/{name};\n index index.php;\n"
    " location ~ \\.php$ {\n  include snippets/fastcgi-php.conf;\n  fastcgi_pass unix:/run/php/app.sock;\n }\n}\n"
    for name in ("a", "b")
)


@pytest.mark.parametrize("group", ["", "group = shared\n"])
def test_a_site_moves_to_a_pool_that_is_like_the_one_it_had(group: str) -> None:
    """Whose user's own group has another name; the web server, which is somebody else, has the way to its socket."""
    files = {FPM.replace("zz-laboratory", "app"): OWN_POOL.format(group=group), "/etc/nginx/sites-enabled/site": SITES}
    at_odds = [
        needs(settings=f'[settings.required]\nmemory_limit = "{limit}"\nmax_input_vars = ">= 5000"\n')
        for limit in (">= 1G", "<= 256M")
    ]

    def prepared(root: Root) -> None:
        root.run("sh", "-c", "groupadd -f shared; useradd -g users -m app")

    with running("bookworm", files, "nginx", PORT, prepared=prepared) as root:
        surveyed = survey(DirectoryHost(root.path, "laboratory", live=True))
        before = now("a")
        made = plan(
            [replace(application, name=f"nightlog{at}") for at, application in enumerate(at_odds)],
            surveyed,
            "a",
            today=TODAY,
        )
        assert made.complete and len(made.of(AddPool)) == 1
        carried_out(root, made)
        assert comes_to({"memory_limit": "1G", "max_input_vars": "7000", "open_basedir": "/srv:/tmp"}, "a")
        assert {key for key, value in now("a").items() if value != before[key]} <= {"memory_limit", "disable_functions"}


def test_a_file_of_another_user_is_changed_with_his_rights_alone() -> None:
    server, files = files_of("fpm: user file", BRANCH, PORT)
    with running("bookworm", files, server, PORT) as root:
        root.run("chown", "-R", "www-data:www-data", "/srv/a")
        made = planned(root)
        root.write("/root/plan.sh", as_script(made))
        root.run(
            "sh",
            "-c",
            "rm /srv/a/.user.ini; printf 'memory_limit = 300M\\n' >/etc/secret; ln -s /etc/secret /srv/a/.user.ini",
        )
        with pytest.raises(RuntimeError):
            root.run("sh", "/root/plan.sh", "--yes")
        assert (root.path / "etc/secret").read_text() == "memory_limit = 300M\n"
        root.run("sh", "-c", "rm /srv/a/.user.ini; install -o www-data -g www-data /etc/secret /srv/a/.user.ini")
        root.run("sh", "/root/plan.sh", "--yes")
        assert root.run("stat", "-c", "%U", "/srv/a/.user.ini").strip() == "www-data"
        assert comes_to(WANTED, "a")
