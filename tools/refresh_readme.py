"""Run the commands of the README's session on the shipped example, and put in what they print."""

import os
import re
import shlex
import subprocess
import sys
from pathlib import Path

import fundamentum.demo

README = Path(__file__).parents[1] / "README.md"
BLOCK = re.compile(r"(```console\n\$ (fundamentum [^\n]+)\n)(.*?)(\n```)", re.S)


def refreshed(text: str) -> str:
    """The text with the output of every session block as it is now."""
    return BLOCK.sub(lambda block: block[1] + _output(block[2]) + block[4], text)


def _output(command: str) -> str:
    program, *arguments = shlex.split(command)
    data = Path(fundamentum.demo.__file__).parent / "data"
    done = subprocess.run(
        [Path(sys.executable).with_name(program), *arguments],
        cwd=data,
        capture_output=True,
        text=True,
        check=False,
        env={**os.environ, "COLUMNS": "110"},
    )
    return done.stdout.rstrip("\n")


if __name__ == "__main__":
    README.write_text(refreshed(README.read_text()))
