"""A PHP that no package put there: found, and judged by what it says of itself, as it really behaves."""

import subprocess
from collections.abc import Iterator

import pytest
from debian_root import STORE, Root, with_libraries

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.survey.observe import survey

pytestmark = pytest.mark.real
MOVED = {  # other directories of the same length, as another --prefix would have put them into the program
    b"/etc/php/8.2/cli": b"/usr/local/etc/p",
    b"/usr/lib/php/20220829": b"/usr/local/lib/php/ex",
}


FORGOTTEN = "rm -rf /var/lib/dpkg /etc/php /usr/lib/php /usr/bin/php /usr/bin/php8.2 /etc/alternatives/php"


@pytest.fixture(scope="module")
def root() -> Iterator[Root]:
    made = with_libraries("bookworm").copy(STORE / "test-compiled")
    made.install("php8.2-cli", "php8.2-gd")
    data = (made.path / "usr/bin/php8.2").read_bytes()
    for old, new in MOVED.items():
        assert len(old) == len(new)
        data = data.replace(old, new)
    program = made.path / "usr/local/bin/php"
    program.write_bytes(data)
    program.chmod(0o755)
    made.write("/usr/local/etc/p/php.ini", "memory_limit = 99M\nextension=gd\n")
    made.write("/usr/local/etc/p/conf.d/10-more.ini", "max_input_vars = 4321\nextension=ctype\nextension=nowhere\n")
    extensions = made.path / "usr/local/lib/php/ex"
    extensions.mkdir(parents=True)
    for name in ("gd", "ctype", "calendar"):
        (extensions / f"{name}.so").write_bytes((made.path / f"usr/lib/php/20220829/{name}.so").read_bytes())
    yield made
    subprocess.run(["rm", "-rf", str(made.path)], check=True)


@pytest.mark.parametrize("system", ["Debian", "another Linux"])
def test_it_is_what_it_says_it_is(root: Root, system: str) -> None:
    if system != "Debian":
        root.run("sh", "-c", FORGOTTEN)
    surveyed = survey(DirectoryHost(root.path, "mizar"))
    runtime = next(runtime for runtime in surveyed.runtimes if runtime.program == "/usr/local/bin/php")
    command = ["chroot", str(root.path), "/usr/local/bin/php", "-d", "display_startup_errors=0"]
    listed = subprocess.run([*command, "-m"], capture_output=True, text=True).stdout.splitlines()
    names = {line for line in listed if line and line[0] != "[" and "Warning" not in line}
    assert {extension.shown for extension in runtime.extensions if extension.fault is None} == names
    assert {"gd", "ctype"} <= names
    for setting in ("memory_limit", "max_input_vars", "upload_max_filesize", "extension_dir"):
        said = subprocess.run([*command, "-r", f"echo ini_get('{setting}');"], capture_output=True, text=True).stdout
        assert runtime.settings[setting].value == said.splitlines()[-1], setting
    assert runtime.ini_file == "/usr/local/etc/p/php.ini"
    branch = surveyed.branch_of(runtime)
    assert branch
    assert {module.name for module in branch.modules} == {"gd", "ctype", "calendar"}
    assert all(module.package is None for module in branch.modules), "no package owns them"
    if system != "Debian":
        assert surveyed.system.family == "unknown"
        assert surveyed.installed is None
        assert any(remark.about == "packages" and "unknown" in remark.why for remark in surveyed.remarks)
    else:
        assert any(listed.program == "/usr/bin/php8.2" for listed in surveyed.runtimes), "beside the distribution's own"
