"""The real ansible-playbook, over a real sshd."""

import subprocess
from pathlib import Path

from .carried_out import PROGRAM

PLAYBOOK = PROGRAM.with_name("ansible-playbook")


def play(folder: Path, environment: dict[str, str], *options: str, fails: bool = False) -> str:
    """Run ``plan.yml`` of a folder against the server behind the sshd, which ``fails`` or not; what it printed."""
    (folder / "hosts").write_text(
        f"deneb ansible_host=127.0.0.1 ansible_port={environment['SSHD_PORT']} ansible_user=root ansible_ssh_executable={folder}/bin/ssh "
        "ansible_ssh_transfer_method=piped ansible_become=false ansible_python_interpreter=/usr/bin/python3\n"
    )
    command = [
        str(PLAYBOOK),
        "-i",
        f"{folder}/hosts",
        "-e",
        "target=deneb",
        "-e",
        "skip_restart=true",
        f"{folder}/plan.yml",
        *options,
    ]
    quiet = {
        **environment,
        "ANSIBLE_NOCOWS": "1",
        "ANSIBLE_PIPELINING": "true",
        "ANSIBLE_SSH_ARGS": "-o ControlMaster=auto -o ControlPersist=10 -o ControlPath=/tmp/.play-%C",
        "ANSIBLE_HOME": str(folder / "ansible"),
        "LC_ALL": "C.UTF-8",
    }
    done = subprocess.run(command, capture_output=True, text=True, env=quiet, timeout=900)
    assert (done.returncode != 0) == fails, done.stdout[-3000:] + done.stderr[-2000:]
    return done.stdout
