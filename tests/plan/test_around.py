"""Plans for what surrounds PHP: they prove themselves, and on the files as surveyed anew too."""

import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from fundamentum.changes.directive import SetDirective
from fundamentum.changes.packages import Install
from fundamentum.changes.pool_option import SetPoolOption
from fundamentum.changes.service import Restart
from fundamentum.changes.task import ScheduleTask
from fundamentum.changes.web_limit import LimitForAll, WidenLimit
from fundamentum.model.needs import Needs
from fundamentum.model.packages import Installed
from fundamentum.model.surrounding_facts import Command
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import as_script
from tests.around import around_root, look, needs, site
from tests.examples import examples
from tests.small_root import TODAY, write

BODY, WAIT = "    client_max_body_size {};\n", "    fastcgi_read_timeout {};\n"
CRLF = site(server=BODY.format("9m")).replace("\n", "\r\n")


def carry_out(root: Path, made: Plan) -> None:
    """Write the plan's files and apply its diffs, with the real ``patch``."""
    write(root, {file.path: file.content for file in made.files})
    for edit in made.edits:
        target = root / edit.path.lstrip("/")
        subprocess.run(["patch", "--binary", "-s", "-f", str(target)], input=edit.diff.encode(), check=True)


def test_only_the_links_that_are_too_narrow_are_widened(tmp_path: Path) -> None:
    root = around_root(
        tmp_path, nginx=site(server=BODY.format("99m"), location=WAIT.format("9s")), fpm_ini="post_max_size = 90M\n"
    )
    wanted = needs('[uploads]\nlargest = "50M"\n[requests]\nlongest = "20s"\n')
    made = plan([wanted], look(root, wanted), today=TODAY)
    assert {(directive.name, directive.before, directive.after) for directive in made.of(SetDirective)} == {
        ("upload_max_filesize", "2M", "50M")
    }
    assert [(change.name, change.after) for change in made.of(WidenLimit)] == [("fastcgi_read_timeout", "20s")]
    assert made.complete
    assert [(restart.service, restart.verb) for restart in made.of(Restart)] == [
        ("php8.2-fpm", "restart"),
        ("nginx", "reload"),
    ]


def test_of_two_limits_in_one_line_each_is_widened(tmp_path: Path) -> None:
    """A location within another, on one line: what the second allows is not told by the change of the first."""
    php = "location ~ \\.php$ { client_max_body_size 2m; fastcgi_pass unix:/run/php/php8.2-fpm.sock; }"
    text = f"server {{\n    listen 80;\n    root /srv/nightlog/public;\n    index index.php;\n    location / {{ client_max_body_size 3m; {php} }}\n}}\n"
    root = around_root(tmp_path, nginx=text, fpm_ini="post_max_size = 90M\nupload_max_filesize = 90M\n")
    wanted = needs('[uploads]\nlargest = "20M"\n')
    made = plan([wanted], look(root, wanted), today=TODAY)
    assert made.complete and {(change.before, change.after) for change in made.of(WidenLimit)} == {
        ("3m", "21m"),
        ("2m", "21m"),
    }
    carry_out(root, made)
    text = (root / "etc/nginx/sites-enabled/nightlog").read_text()
    assert text.count("client_max_body_size 21m;") == 2 and not plan([wanted], look(root, wanted), today=TODAY).edits


def test_two_applications_on_one_site_get_what_the_larger_wants(tmp_path: Path) -> None:
    wanted = [
        needs(f'[uploads]\nlargest = "{size}"\n', name) for size, name in (("90M", "platevault"), ("20M", "nightlog"))
    ]
    made = plan(wanted, look(around_root(tmp_path), *wanted), today=TODAY)
    assert [(change.name, change.after) for change in made.of(WidenLimit)] == [("client_max_body_size", "94m")]
    assert made.complete


def test_the_process_managers_limit_goes_behind_the_one_that_sets_it(tmp_path: Path) -> None:
    pool = "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nlisten.owner = www-data\nrequest_terminate_timeout = 10s\n"
    root = around_root(tmp_path, extra={"etc/php/8.2/fpm/pool.d/www.conf": pool})
    wanted = needs('[requests]\nlongest = "2m"\n')
    made = plan([wanted], look(root, wanted), today=TODAY)
    assert [set_pool_option.file for set_pool_option in made.of(SetPoolOption)] == [
        "/etc/php/8.2/fpm/pool.d/zz-nightlog-www.conf"
    ]
    carry_out(root, made)
    again = plan([wanted], look(root, wanted), today=TODAY)
    assert again.empty and again.complete


def test_lines_of_web_servers_are_changed_where_they_stand(tmp_path: Path) -> None:
    wanted = needs('[uploads]\nlargest = "50M"\n[requests]\nlongest = "90s"\n')
    nginx = site(
        server=BODY.format('"9m"'), location="        fastcgi_read_timeout 5s; client_max_body_size 3m;  # both\n"
    )
    made = plan([wanted], look(around_root(tmp_path, nginx=nginx), wanted), today=TODAY)
    (edit,) = made.edits
    assert "+        fastcgi_read_timeout 90s; client_max_body_size 52m;  # both\n" in edit.diff
    assert "+    client_max_body_size 52m;\n" in edit.diff, "the front location is measured by the server's own"
    assert made.complete


def test_a_plan_rests_on_the_users_whose_rights_count(tmp_path: Path) -> None:
    root = around_root(tmp_path)
    for text, mark in (('[directories.required]\n"var/plates" = "writable"\n', "account:33:33,50"), ("", None)):
        wanted = needs(f'[settings.required]\nmemory_limit = ">= 300M"\n{text}')
        made = plan([wanted], look(root, wanted), today=TODAY)
        assert made.rests_on.get("www-data") == mark


APACHE = """ServerRoot /etc/apache2
DocumentRoot /srv/nightlog/public
Timeout 20
<FilesMatch "\\.php$">
    SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
</FilesMatch>
IncludeOptional conf-enabled/*.conf
DirectoryIndex index.php
"""


def test_a_main_server_without_hosts_gets_a_file_of_its_own(tmp_path: Path) -> None:
    files: dict[str, str | bytes] = {"etc/apache2/apache2.conf": APACHE, "etc/nginx/nginx.conf": "events {}\n"}
    files["etc/apache2/conf-enabled/security.conf"] = "LimitRequestBody 4000\n"
    root = around_root(tmp_path, extra=files)
    wanted = needs('[uploads]\nlargest = "50M"\n[requests]\nlongest = "2m"\n')
    made = plan([wanted], look(root, wanted), today=TODAY)
    assert {file.path: file.content.splitlines()[1:] for file in made.files if "apache2" in file.path} == {
        "/etc/apache2/conf-enabled/zz-nightlog.conf": ["LimitRequestBody 54525952", "ProxyTimeout 120"]
    }
    assert made.complete and ("apache2", "reload") in [(restart.service, restart.verb) for restart in made.of(Restart)]
    assert "LimitRequestBody of default 4000 -> " in as_script(made)
    carry_out(root, made)
    again = plan([wanted], look(root, wanted), today=TODAY)
    assert again.complete and again.empty


def test_only_the_site_that_was_named_is_widened(tmp_path: Path) -> None:
    both = site() + site().replace("nightlog.observatory", "platevault.observatory")
    wanted = needs('[uploads]\nlargest = "50M"\n')
    made = plan(
        [wanted], look(around_root(tmp_path, nginx=both), wanted), "platevault.observatory.example", today=TODAY
    )
    assert [change.site for change in made.of(WidenLimit)] == ["platevault.observatory.example"]
    assert made.complete


def test_the_timeout_of_one_address_is_left_to_a_person(tmp_path: Path) -> None:
    proxy = '<Proxy "unix:/run/php/php8.2-fpm.sock|fcgi://localhost">\nProxySet timeout=9\n</Proxy>\n'
    files: dict[str, str | bytes] = {
        "etc/apache2/apache2.conf": proxy + f"<VirtualHost *:80>\n{APACHE}</VirtualHost>\n",
        "etc/nginx/nginx.conf": "events {}\n",
    }
    wanted = needs('[requests]\nlongest = "2m"\n')
    made = plan([wanted], look(around_root(tmp_path, extra=files), wanted), today=TODAY)
    assert not made.of(LimitForAll) and not made.of(WidenLimit) and not made.complete
    assert "change timeout=9 to timeout=120" in made.unresolved[0].why


def test_what_is_installed_and_too_old_is_owned_up_to(tmp_path: Path) -> None:
    wanted = needs('[commands]\nrequired = ["git >= 2.35"]\n')
    survey = look(around_root(tmp_path), wanted)
    old = replace(
        survey,
        installed=(*(survey.installed or ()), Installed("git", "1:2.30.2-1")),
        commands=(Command("git", "/usr/bin/git", "git", ("git",)),),
    )
    made = plan([wanted], old, today=TODAY)
    assert not made.of(Install) and "upgrade git to 2.39.5" in made.unresolved[0].why


def test_any_time_zone_will_do_where_another_application_names_one(tmp_path: Path) -> None:
    wanted = [
        needs('[host.required]\ntime_zone = "set"\n'),
        needs('[settings.required]\n"date.timezone" = "= Europe/Vienna"\n', "domekeeper"),
    ]
    made = plan(wanted, look(around_root(tmp_path), *wanted), today=TODAY)
    assert [(directive.name, directive.after) for directive in made.of(SetDirective)] == [
        ("date.timezone", "Europe/Vienna")
    ]
    assert made.complete


TABLES = st.fixed_dictionaries(
    {},
    optional={
        "uploads": st.tuples(st.sampled_from(["1M", "9M", "300M"]), st.sampled_from([5, 40])).map(
            lambda one: f'[uploads]\nlargest = "{one[0]}"\nfiles = {one[1]}\n'
        ),
        "requests": st.sampled_from(["10s", "45s", "1h"]).map(lambda one: f'[requests]\nlongest = "{one}"\n'),
        "forms": st.sampled_from([10, 4000]).map(lambda one: f"[forms]\nfields = {one}\n"),
        "database": st.sampled_from(["mariadb >= 10.6", "mariadb >= 99", "mysql | postgresql >= 13", "sqlite >= 3.35"]).map(
            lambda one: f'[database]\nrequired = ["{one}"]\n'
        ),
        "commands": st.sampled_from(["git >= 2.30", "git >= 9", "convert | orrery", "orrery", "unzip"]).map(
            lambda one: f'[commands]\nrequired = ["{one}"]\n'
        ),
        "directories": st.tuples(st.sampled_from(["var/plates", "/srv/nightlog/public", "/srv/far/away"]), st.sampled_from(["writable", "read-only", "there", "outside"])).map(
            lambda one: f'[directories.required]\n"{one[0]}" = "{one[1]}"\n'
        ),
        "host": st.sampled_from(['time_zone = "set"', 'architecture = "amd64"', 'memory = ">= 2G"']).map(lambda one: f"[host.required]\n{one}\n"),
        "tasks": st.sampled_from(["every 15m", "every 3h"]).map(lambda one: f'[tasks.required]\n"bin/fetch.php" = "{one}"\n'),
    },
).map(lambda tables: "".join(tables.values()))  # fmt: skip
SERVERS = st.tuples(*(st.sampled_from(["", line.format(small), line.format(large)]) for line, small, large in (
    (BODY, "2m", "400m"), (BODY, "1m", "0"), (WAIT, "5s", "2h"),
))).map(lambda parts: site(server=parts[0], location=parts[1] + parts[2]))  # fmt: skip


@pytest.mark.skipif(shutil.which("patch") is None, reason="patch is not installed")
@settings(max_examples=examples(60), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    tables=st.lists(TABLES, min_size=1, max_size=2),
    nginx=st.one_of(SERVERS, st.just(CRLF)),
    pool=st.sampled_from(
        [
            "",
            "request_terminate_timeout = 20s\n",
            "request_terminate_timeout = 0\n",
            "php_admin_value[post_max_size] = 3M\n",
        ]
    ),
    ini=st.sampled_from(
        ["", "max_input_vars = 100\npost_max_size = 0\n", "date.timezone = Europe/Vienna\nfile_uploads = off\n"]
    ),
    mode=st.sampled_from([0o755, 0o700, 0o777]),
)
def test_a_plan_proves_itself(
    tmp_path_factory: pytest.TempPathFactory, tables: list[str], nginx: str, pool: str, ini: str, mode: int
) -> None:
    """Applied and checked again, every need is met or listed; what was written has the effect that was foreseen."""
    base = "[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nlisten.owner = www-data\n"
    root = around_root(
        tmp_path_factory.mktemp("server"),
        nginx=nginx,
        fpm_ini=ini,
        extra={"etc/php/8.2/fpm/pool.d/www.conf": base + pool, "srv/nightlog/var/plates/x": ""},
    )
    (root / "srv/nightlog/var/plates").chmod(mode)
    wanted: list[Needs] = [needs(text, f"nightlog{at}") for at, text in enumerate(tables)]
    made = plan(wanted, look(root, *wanted), today=TODAY)
    listed = {(unresolved.application, unresolved.need) for unresolved in made.unresolved}
    for judgement in made.after:
        assert all(f.verdict == "met" or (judgement.needs.name, f.need) in listed for f in judgement.findings)
    assert made.complete is all(judgement.satisfied for judgement in made.after)
    own = as_script(made).partition("rests_on() {")[0]  # behind it stands what there was before
    assert "o+w" not in own and "777" not in own
    assert as_playbook(made).startswith("---")
    carry_out(root, made)
    anew = look(root, *wanted)
    values = {(site.name, limit.part, limit.name): limit.value for site in anew.sites for limit in site.limits}
    for change in made.of(WidenLimit):
        assert isinstance(change, WidenLimit)
        assert change.after in values.values()
    second = plan(wanted, anew, today=TODAY).changes
    again = (SetDirective, WidenLimit, SetPoolOption, ScheduleTask)
    assert not [change for change in second if isinstance(change, again)]
