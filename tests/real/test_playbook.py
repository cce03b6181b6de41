"""Plans carried out by the real ansible-playbook, over a real sshd."""

import subprocess
from pathlib import Path

import pytest
from debian_root import STORE, base

from .carried_out import PROGRAM, RELEASES, confirmed, fundamentum, needs_files, state_of
from .twin import sshd

pytestmark = pytest.mark.real
PLAYBOOK = PROGRAM.with_name("ansible-playbook")


@pytest.mark.parametrize(("release", "branch"), RELEASES.items())
def test_a_playbook_does_the_same(release: str, branch: str, tmp_path: Path) -> None:
    server = base(release).copy(STORE / "test-playbook")
    server.install("python3", "python3-apt", "libfcgi-bin")
    needs = needs_files(tmp_path)
    applications = [str(one) for one in needs.values()]
    with sshd(server, tmp_path) as environment:
        (tmp_path / "hosts").write_text(
            f"deneb ansible_host=127.0.0.1 ansible_port={environment['SSHD_PORT']} ansible_user=root ansible_ssh_executable={tmp_path}/bin/ssh "
            "ansible_ssh_transfer_method=piped ansible_become=false ansible_python_interpreter=/usr/bin/python3\n"
        )
        code, text = fundamentum("plan", *applications, "--server", str(server.path), "--format", "playbook")
        assert code == 0
        (tmp_path / "plan.yml").write_text(text)

        def play(*options: str) -> str:
            command = [
                str(PLAYBOOK),
                "-i",
                f"{tmp_path}/hosts",
                "-e",
                "skip_restart=true",
                f"{tmp_path}/plan.yml",
                *options,
            ]
            quiet = {
                **environment,
                "ANSIBLE_NOCOWS": "1",
                "ANSIBLE_SSH_ARGS": "-o ControlMaster=no",
                "ANSIBLE_HOME": str(tmp_path / "ansible"),
                "LC_ALL": "C.UTF-8",
            }
            done = subprocess.run(command, capture_output=True, text=True, env=quiet, timeout=900)
            assert done.returncode == 0, done.stdout[-3000:] + done.stderr[-2000:]
            return done.stdout

        before = state_of(server)
        assert "changed=0" not in play("--check")
        assert state_of(server) == before
        play()
        assert "changed=0" in play()
    for application in needs.values():
        assert fundamentum("check", str(application), "--server", str(server.path))[0] == 0
        confirmed(server, branch, application)
    subprocess.run(["rm", "-rf", str(server.path)], check=True)
