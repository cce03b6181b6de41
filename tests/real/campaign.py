"""Servers as one meets them, made at random from a seed, and everything that is promised for them, tried.

A case is a server of one release in some state, and an application's needs.  It is planned for, tried dry, carried out,
the real sites asked, carried out again, taken back; and, in a copy of the same state, killed at some moment and then
finished or taken back.
"""

import random
import re
import stat
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import msgspec
from debian_root import Root

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.kinds import asked_by
from fundamentum.model.needs import Needs
from fundamentum.plan.made_plan import Plan
from fundamentum.plan.planner import plan
from fundamentum.report.plans.script import as_script
from fundamentum.survey.observe import survey
from tests.around import needs
from tests.sites.cases import RELEASES, files_of
from tests.small_root import TODAY

from .laboratory import asked, running
from .test_package_states import STATUS, an_update_behind

PATH = {"PATH": "/usr/sbin:/usr/bin:/sbin:/bin"}
KINDS = {"fpm: nothing": "fpm", "module: nothing": "apache2", "proxy: nothing": "fpm"}
EXTENSIONS = ("mbstring", "dom", "gd", "intl", "bcmath", "curl", "zip", "ctype")


class Case(msgspec.Struct):
    """One state of one server, and what is wanted of it."""

    seed: int
    release: str
    kind: str
    states: list[str]
    needs: Needs


class Failed(AssertionError):
    """A promise that was not kept, by its name in the figures."""


def case_of(seed: int) -> Case:
    """The case of a seed."""
    dice = random.Random(seed)
    wanted = dice.sample(EXTENSIONS, dice.randint(1, 3))
    settings = {"memory_limit": dice.choice(["64M", "200M", "512M"]), "max_input_vars": dice.choice(["900", "4000"])}
    text = f"[extensions]\nrequired = {wanted}\n[settings.required]\n"
    text += "".join(f'{name} = ">= {value}"\n' for name, value in settings.items())
    text += f'[uploads]\nlargest = "{dice.choice(["1M", "30M"])}"\n'
    text += '[directories.required]\n"/srv/a/closed" = "writable"\n' if dice.random() < 0.5 else ""
    states = dice.sample(list(STATES), dice.randint(1, 4))
    return Case(seed, dice.choice(list(RELEASES)), dice.choice(list(KINDS)), states, needs(text.replace("'", '"')))


def _module_off(root: Root, branch: str, sapi: str) -> None:
    root.run("phpdismod", "-v", branch, "-s", sapi, "mbstring", "dom", check=False)


def _drop_in(root: Root, branch: str, sapi: str) -> None:
    root.write(f"/etc/php/{branch}/{sapi}/conf.d/50-mine.ini", "memory_limit = 300M\nmax_input_vars = 1500\n")


def _pool_values(root: Root, branch: str, sapi: str) -> None:
    pool = f"/etc/php/{branch}/fpm/pool.d/zz-laboratory.conf"
    (root.path / pool[1:]).write_text((root.path / pool[1:]).read_text() + "php_admin_value[memory_limit] = 70M\n")


def _user_file(root: Root, branch: str, sapi: str) -> None:
    root.write("/srv/a/.user.ini", "max_input_vars = 700\n")


def _neighbour(root: Root, branch: str, sapi: str) -> None:
    root.write("/srv/b/.user.ini", "memory_limit = 400M\n")


def _linked(root: Root, branch: str, sapi: str) -> None:
    for server in ("nginx", "apache2"):
        for file in (root.path / f"etc/{server}/sites-enabled").glob("site*"):
            root.write(f"/etc/{server}/sites-available/{file.name}", file.read_text())
            file.unlink()
            file.symlink_to(f"../sites-available/{file.name}")


def _held(root: Root, branch: str, sapi: str) -> None:
    root.run("apt-mark", "hold", f"php{branch}-gd")


def _pinned(root: Root, branch: str, sapi: str) -> None:
    root.write("/etc/apt/preferences.d/no-intl", f"Package: php{branch}-intl\nPin: version *\nPin-Priority: -1\n")


def _half(root: Root, branch: str, sapi: str) -> None:
    text = (root.path / STATUS).read_text()
    pattern = rf"(\nPackage: php{re.escape(branch)}-cli\nStatus: install ok )installed"
    (root.path / STATUS).write_text(re.sub(pattern, r"\1half-configured", text))


def _behind(root: Root, branch: str, sapi: str) -> None:
    an_update_behind(root, branch)


def _bare(root: Root, branch: str, sapi: str) -> None:
    (root.path / f"etc/init.d/php{branch}-fpm").unlink(missing_ok=True)


STATES: dict[str, Callable[[Root, str, str], None]] = {
    "modules off": _module_off,
    "a drop-in": _drop_in,
    "values in the pool": _pool_values,
    "a file of the site": _user_file,
    "a file of the neighbour": _neighbour,
    "linked site files": _linked,
    "a hold": _held,
    "a pin": _pinned,
    "dpkg interrupted": _half,
    "an update behind": _behind,
    "a bare process": _bare,
}


@contextmanager
def server(case: Case, port: int) -> Iterator[Root]:
    """The server of a case, running."""
    branch = RELEASES[case.release]
    kind, files = files_of(case.kind, branch, port)

    def prepared(root: Root) -> None:
        for state in case.states:
            STATES[state](root, branch, KINDS[case.kind])

    with running(case.release, files, kind, port, prepared=prepared) as root:
        yield root


def planned(root: Root, case: Case) -> Plan:
    host = DirectoryHost(root.path, "laboratory", live=True)
    return plan([case.needs], survey(host, asked_by([case.needs])), "a", today=TODAY)


def state_of(root: Root, *, without: str = r"(?!)") -> dict[str, object]:
    """Configuration and sites: content, links, owners, modes."""
    found: dict[str, object] = {}
    for folder in ("etc/php", "etc/nginx", "etc/apache2", "etc/cron.d", "srv"):
        for path in (root.path / folder).rglob("*"):
            name = "/" + str(path.relative_to(root.path))
            if not re.search(without, name) and path.name != "x":  # which the sites themselves write
                about = path.lstat()
                what = str(path.readlink()) if path.is_symlink() else path.read_bytes() if path.is_file() else ""
                found[name] = (stat.filemode(about.st_mode), about.st_uid, about.st_gid, what)
    return found


def packages_of(root: Root) -> dict[str, str]:
    lines = root.run("dpkg-query", "-W", "-f", "${db:Status-Abbrev}|${Package}|${Version}\n").splitlines()
    return {name: version for status, name, version in (line.split("|") for line in lines) if status.startswith("ii")}


def run(root: Root, *words: str) -> tuple[int, str]:
    done = subprocess.run(
        ["chroot", str(root.path), "sh", "/root/plan.sh", *words], capture_output=True, text=True, timeout=400, env=PATH
    )
    return done.returncode, done.stdout + done.stderr


def look_at(port: int, site: str) -> dict[str, Any]:
    """What a site says of itself, with what is loaded; some time after its services were told to read their files."""
    for _ in range(50):
        try:
            answer = asked(port, site)
        except OSError:
            answer = {}
        if "ini" in answer:
            loaded = {f"extension {name.lower()}": True for name in answer["extensions"]}
            return {**answer["ini"], **loaded}
        time.sleep(0.1)
    raise Failed(f"service broken: {site} does not answer as before: {answer}")


def seen(port: int) -> dict[str, Any]:
    """What both sites say of themselves; the neighbour is left out where no PHP answers for it."""
    return {"a": look_at(port, "a"), **({"b": look_at(port, "b")} if "ini" in asked(port, "b") else {})}


def demanded(holds: bool, figure: str, *about: object) -> None:
    if not holds:
        raise Failed(figure, *about)


def tried(case: Case, port: int) -> str:
    """Everything with one case; in a word, what came of it.  A promise that was not kept is a :class:`Failed`."""
    with server(case, port) as root:
        before, had = seen(port), packages_of(root)
        made = planned(root, case)
        if made.empty or any(step.operation.KIND in ("source", "remove", "site") for step in made.steps):
            return "nothing to do" if made.complete else "owned up"
        root.write("/root/plan.sh", as_script(made))
        files = state_of(root)
        code, said = run(root)
        demanded(state_of(root) == files and packages_of(root) == had, "a dry run changed something")
        if code:
            demanded(bool(re.search("nothing was changed", said)), "stopped without saying why", said)
            demanded(code in (1, 4) and "dpkg interrupted" in case.states, "differing from apt", said)
            return "stopped before the first change"
        code, said = run(root, "--yes")
        demanded(code == 0, "promised and not so", made.complete, said)
        _sites_are_as_told(case, made, before, port, root)
        files_then, then = state_of(root), packages_of(root)
        demanded(set(then) - set(had) <= {*_installed(made), *made.along, "patch"}, "differing from apt", said)
        code, said = run(root, "--yes")
        demanded(code == 0 and state_of(root) == files_then and "installing" not in said, "a second run changed", said)
        _taken_back(root, made, files, before, port)
    return "done, proved, taken back" + ("" if made.complete else "; owned up to the rest")


def _installed(made: Plan) -> set[str]:
    return {name for step in made.steps for name in getattr(step.operation, "names", ())}


def _sites_are_as_told(case: Case, made: Plan, before: dict[str, Any], port: int, root: Root) -> None:
    """The site has what was promised; its neighbour has what it had, but for what the plan told."""
    after = {site: look_at(port, site) for site in before}
    for proof in made.proofs:
        for promise in proof.promises if not proof.program else ():
            if promise.asks == "setting":
                demanded((after["a"].get(promise.name) or "") == promise.value, "promised and not so", promise)
    told = {effect.name for effect in made.others if effect.site == "b"} | {"disable_functions"}
    one, two = before.get("b", {}), after.get("b", {})
    changed = {name for name in one.keys() | two.keys() if one.get(name) != two.get(name)}
    of_new = {name for name in changed if name not in one}  # directives of extensions that are loaded now
    demanded(changed - of_new <= told, "other site changed unannounced", changed - of_new - told)


def _taken_back(root: Root, made: Plan, files: dict[str, object], before: dict[str, Any], port: int) -> None:
    code, said = run(root, "--undo")
    demanded(code == 0, "something lost: no way back", said)
    remnants = (
        r"/(?:[0-9]+-)?(?:" + "|".join(map(re.escape, _brought(made))) + r")\.ini$" if _brought(made) else r"(?!)"
    )
    now = state_of(root, without=remnants)
    demanded(
        now == {k: v for k, v in files.items() if not re.search(remnants, k)},
        "something lost",
        _odds(now, files, remnants),
    )
    again = {site: look_at(port, site) for site in before}
    for site, was in before.items() if not made.upgrades else ():
        odd = {name for name in was.keys() | again[site].keys() if was.get(name) != again[site].get(name)}
        demanded(not odd, "something lost: a site is not as before", site, odd)


def _brought(made: Plan) -> set[str]:
    """The extensions whose ini files may stay behind: removed packages keep their configuration."""
    names = {*_installed(made), *made.along}
    return {name.rpartition("-")[2] for name in names if name.startswith("php")} | {"xml", "dom", "zip"} & names


def _odds(one: dict[str, object], two: dict[str, object], without: str) -> list[str]:
    odd = (key for key in one.keys() | two.keys() if one.get(key) != two.get(key))
    return sorted(key for key in odd if not re.search(without, key))[:10]


def killed(case: Case, port: int) -> str:
    """The same server: the script is killed at some moment, and then finished or taken back."""
    dice = random.Random(case.seed + 1)
    with server(case, port) as root:
        before = seen(port)
        made = planned(root, case)
        if made.empty or any(step.operation.KIND in ("source", "remove", "site") for step in made.steps):
            return "nothing to do"
        root.write("/root/plan.sh", as_script(made))
        files = state_of(root)
        command = ["setsid", "chroot", str(root.path), "sh", "/root/plan.sh", "--yes"]
        script = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, env=PATH)
        time.sleep(dice.choice([0.2, 0.6, 1.2, 2.5, 4.0]) * (2 if _installed(made) else 0.5))
        subprocess.run(["pkill", "-KILL", "-s", str(script.pid)], check=False)
        script.wait()
        _settled(root)
        if dice.random() < 0.5:
            code, said = run(root, "--yes")
            demanded(code == 0 or "dpkg interrupted" in case.states, "killed: cannot go on", said)
            if code == 0:
                _sites_are_as_told(case, made, before, port, root)
            return "killed, gone on"
        if not list((root.path / "var/backups/fundamentum").glob("*/undo.sh")):
            demanded(state_of(root) == files, "killed: changed without a way back")
            return "killed before it began"
        _taken_back(root, made, files, before, port)
        return "killed, taken back"


def _settled(root: Root) -> None:
    """What a person does after a machine went down in the middle of an installation."""
    for lock in ("dpkg/lock", "dpkg/lock-frontend", "apt/lists/lock"):
        (root.path / "var/lib" / lock).unlink(missing_ok=True)
    root.run("dpkg", "--configure", "-a", check=False)
    root.run("apt-get", "-y", "-f", "-o", "Dpkg::Options::=--force-confold", "install", check=False)
