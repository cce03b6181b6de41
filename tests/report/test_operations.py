"""Each operation in the words of a person, a script and a playbook, and what takes it back."""

import pytest
import yaml
from msgspec.structs import replace

from fundamentum.changes.file_operations import EditFile, Hunk, Line, WriteFile
from fundamentum.changes.primitives import (
    ConfigureSource,
    HandOver,
    InstallPackages,
    Own,
    Primitive,
    SwitchExtension,
    SwitchStream,
)
from fundamentum.changes.server_operations import MakeDatabase, RunCommands, SwitchInServer, TakeUp
from fundamentum.changes.service import Restart
from fundamentum.changes.steps import Step, steps
from fundamentum.model.findings import Switch
from fundamentum.model.surrounding_facts import Place
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import platform
from fundamentum.report.plans.playbook import as_playbook
from fundamentum.report.plans.script import in_shell
from fundamentum.webservers import webserver

OWN = Own(
    "/srv/p", "www", False, "www", "www", 0o750, (("/srv", 0o711),), (("/srv", "x"),), "httpd_sys_rw_content_t",
    (Place("/srv/p", "directory", user=0, group=0, mode=0o700), Place("/srv", "directory", mode=0o700)),
)  # fmt: skip
MAKE = Own("/srv/q", "www", True, "www", None, 0o750, (), (), None)
APACHE = SwitchInServer(tuple(webserver("apache2").switching(Switch("apache2", ("php8.2",), ("mpm_event",)))))
EDIT = EditFile(
    "/etc/a", (Hunk(2, "x 1;", ((2, 3, "5"),)), Hunk(2, "x 1;", added=("y;",)), Hunk(9, None, added=("z;",)))
)
CASES: list[tuple[Primitive, str, list[str], list[str], list[str]]] = [  # title, commands, calls of the script, way back
    (InstallPackages(("a", "b"), ("c",)), "install 3 packages",
     ["apt-get install --no-install-recommends a b", "apt-get install --reinstall --no-install-recommends c"],
     ["install_packages a b", "install_again c"], ["apt-get remove a b"]),
    (InstallPackages((), ("c",)), "install 1 package", ["apt-get install --reinstall --no-install-recommends c"],
     ["install_again c"], []),
    (SwitchExtension((("8.2", "fpm", "gd", "gd"),)), "switch on what is there already",
     ["phpenmod -v 8.2 -s fpm gd"], ["switch_on 8.2 fpm gd"], ["phpdismod -v 8.2 -s fpm gd"]),
    (APACHE, "let the web server hand PHP files to PHP", ["a2dismod mpm_event", "a2enmod php8.2"],
     ["switch_part mpm_event '! a2query -q -m mpm_event' 'a2dismod -q -f mpm_event' 'a2enmod mpm_event'",
      "switch_part php8.2 'a2query -q -m php8.2' 'a2enmod -q php8.2' 'a2dismod php8.2'"],
     ["a2dismod php8.2", "a2enmod mpm_event"]),
    (WriteFile("/etc/x", "; h", (Line("b", 9, "b"), Line("a", 9, "a"), Line("[w]", 1), Line("old", 9, "a", planned=False))),
     "write /etc/x", ["printf '%s\\n' '; h' '[w]' a b > /etc/x"],
     ["write_file /etc/x \\", "    '; h' \\", "    '[w]' \\", "    a \\", "    b"], []),
    (OWN, "give www /srv/p",
     ["chown www:www /srv/p", "chmod 0750 /srv/p", "chmod 0711 /srv", "setfacl -m u:www:x /srv",
      "semanage fcontext -a -t httpd_sys_rw_content_t '/srv/p(/.*)?'", "restorecon -R /srv/p"],
     ["give /srv/p www www", "set_mode /srv/p 750", "set_mode /srv 711", "grant /srv www x", "set_label /srv/p httpd_sys_rw_content_t"],
     ["setfacl -x u:www /srv", "chown 0:0 /srv/p", "chmod 0700 /srv/p", "chmod 0700 /srv"]),
    (MAKE, "make the directory /srv/q", ["install -d -m 0750 -o www /srv/q"], ["make_directory /srv/q 750 www ''"], ["rmdir /srv/q"]),
    (TakeUp("nginx", "reload"), "reload nginx", ["systemctl reload nginx"], ["reload_service nginx /run/nginx.pid HUP nginx -t"],
     ["systemctl reload nginx"]),
    (TakeUp("nginx", "start"), "start nginx", ["systemctl start nginx"], ["start_service nginx /run/nginx.pid HUP nginx -t"],
     ["systemctl stop nginx"]),
    (TakeUp("mariadb", "start", reads=False), "start mariadb", ["systemctl start mariadb"],
     ["run_service mariadb /run/mysqld/mysqld.pid"], ["systemctl stop mariadb"]),
    (MakeDatabase("night_log", "mariadb", "utf8mb4", "/root/p", False, "nightlog"), "make the database night_log",
     ["CREATE DATABASE IF NOT EXISTS `night_log` CHARACTER SET utf8mb4;",
      "CREATE USER IF NOT EXISTS 'night_log'@'localhost' IDENTIFIED BY 'the password in /root/p';",
      "GRANT ALL PRIVILEGES ON `night\\_log`.* TO 'night_log'@'localhost';"],
     ["make_database mariadb night_log utf8mb4 /root/p made nightlog"], []),
    (MakeDatabase("plates", "postgresql", "", "/etc/p", True, "platevault"), "make the database plates",
     ["CREATE ROLE \"plates\" LOGIN PASSWORD 'the password in /etc/p';", 'CREATE DATABASE "plates" OWNER "plates";'],
     ["make_database postgresql plates '' /etc/p given platevault"], []),
    (ConfigureSource("more", (("a", "1"),)), "decide: add the package source more", [], ["need_source more a 1"], []),
    (HandOver("plates"), "decide: let the web server use the pool plates", [], [], []),
    (RunCommands("plates", "let IIS allow more", (("do", "it"),)), "let IIS allow more", ["do it"], [], []),
]  # fmt: skip


@pytest.mark.parametrize(("operation", "title", "commands", "calls", "back"), CASES)
def test_an_operation(operation: Primitive, title: str, commands: list[str], calls: list[str], back: list[str]) -> None:
    of = platform("debian")
    assert (operation.title, operation.commands(of), operation.undone(of)) == (title, commands, back)
    assert in_shell(operation, of) == calls


def test_lines_of_a_file_that_change_together_are_one_diff() -> None:
    assert EDIT.diff.splitlines()[2:] == ["@@ -2 +2,2 @@", "-x 1;", "+x 5;", "+y;", "@@ -9,0 +11 @@", "+z;"]
    unended = EditFile("/etc/a", (Hunk(1, "x 1;", added=("y;",), unended=True),))
    none = "\\ No newline at end of file"
    assert unended.diff.splitlines()[2:] == ["@@ -1 +1,2 @@", "-x 1;", none, "+x 1;", "+y;", none]
    assert "patch -R /etc/a" in EDIT.undone(platform("debian"))[0]
    edit = EDIT.merged(EditFile("/etc/a", (Hunk(20, None, added=("q",)),), True))
    assert edit.in_document_root and edit.diff.endswith("@@ -20,0 +23 @@\n+q\n")


def test_the_order_of_operations_is_that_in_which_they_are_safe() -> None:
    order = [
        ConfigureSource,
        SwitchStream,
        InstallPackages,
        SwitchExtension,
        SwitchInServer,
        WriteFile,
        EditFile,
        Own,
        RunCommands,
        TakeUp,
        MakeDatabase,
        HandOver,
    ]
    assert [vars(kind).get("ORDER", 0) for kind in order] == list(range(len(order)))


def test_of_two_restarts_the_stronger_one_is_taken() -> None:
    def verb(*verbs: str) -> str:
        first, *rest = (Restart("x", one) for one in verbs)  # type: ignore[arg-type]
        for other in rest:
            first = first.joined(other)
        return first.verb

    assert (verb("reload", "restart"), verb("restart", "reload"), verb("restart", "start", "reload")) == (
        "restart",
        "restart",
        "start",
    )


def test_each_has_tasks_in_a_playbook() -> None:
    yaml.SafeLoader.add_constructor("!unsafe", lambda loader, node: loader.construct_scalar(node))  # type: ignore[arg-type]
    made = Plan("mizar", "debian", (), (), changes=(Restart("nginx", "start"), Restart("php8.2-fpm")))
    made = replace(
        made,
        steps=tuple(
            Step(primitive, ()) for primitive in (*(row[0] for row in CASES), EDIT, TakeUp("php8.2-fpm", "restart"))
        ),
    )
    made = replace(made, steps=tuple(step for step in made.steps if step.operation != TakeUp("nginx", "reload")))
    (play,) = yaml.safe_load(as_playbook(made))
    names = [task["name"] for task in play["tasks"]]
    for name in ("Install packages", "Install c again", "Switch gd on below /etc/php/8.2/fpm/conf.d", "a2dismod mpm_event",
                 "Keep a place for copies", "Write /etc/x", "Change /etc/a", "Give www /srv/p", "Let www pass through /srv",
                 "Let www have x on /srv", "Label /srv/p", "Give www /srv/q", "Start nginx"):  # fmt: skip
        assert names.count(name) == (2 if name in ("Label /srv/p", "Install c again") else 1), name
    tasks = {task["name"]: task for task in play["tasks"]}
    assert tasks["a2dismod mpm_event"]["when"].endswith(".rc == 0") and tasks["a2enmod php8.2"]["when"].endswith(
        ".rc != 0"
    )
    assert tasks["Test the configuration of nginx"]["changed_when"] is False
    assert tasks["Write /etc/x"]["notify"] == ["restart nginx", "restart php8.2-fpm"]
    assert [(one["name"], one["listen"], one.get("changed_when")) for one in play["handlers"]] == [
        ("Test the configuration of nginx", "restart nginx", False),
        ("Note the way back for nginx", "restart nginx", False),
        ("Restart nginx", "restart nginx", None),
        ("Test the configuration of php8.2-fpm", "restart php8.2-fpm", False),
        ("Note the way back for php8.2-fpm", "restart php8.2-fpm", False),
        ("Restart php8.2-fpm", "restart php8.2-fpm", None),
    ]  # fmt: skip
    assert steps((), None) == ()  # type: ignore[arg-type]
