"""``fundamentum survey``."""

import argparse
import sys
import time
from datetime import date
from pathlib import Path

from fundamentum.cli.applications import application
from fundamentum.cli.output import write_whole
from fundamentum.cli.servers import server
from fundamentum.entries import entry
from fundamentum.kinds import asked_by
from fundamentum.model.surrounding_facts import Asked
from fundamentum.report.remarks import write_remarks
from fundamentum.survey.survey_file import written


def run(options: argparse.Namespace) -> int:
    """Record a server, show a summary of it, or print the script that records it elsewhere."""
    wanted = [application(word) for word in options.applications]
    if options.directory:  # a web server that is not there yet may be asked for
        wanted = [entry("fundamentum.plan", "new_site").with_web(needs) for needs in wanted]
    if options.recorder:
        return _recorder(options, asked_by(wanted, directory=options.directory))
    survey = server(options, wanted)
    write_remarks(survey)
    if options.output is None:
        entry("fundamentum.report", "survey_text").write_survey(sys.stdout, survey, date.today())
    else:
        _write(options.output, written(survey))
    return 0


def _recorder(options: argparse.Namespace, asked: Asked | None) -> int:
    """Write what records a server elsewhere: a shell script, or a PHP file to be uploaded, with how it is used."""
    if options.recorder == "shell":
        _write(options.output or "-", entry("fundamentum.survey", "recorder").script(asked).encode())
        return 0
    if options.recorder == "powershell":
        _write(options.output or "-", entry("fundamentum.survey.recorder", "powershell").script(asked).encode())
        return 0
    content, key = entry("fundamentum.survey.recorder", "upload").upload(asked, time.time())
    _write(options.output or "-", content.encode())
    name = "FILE.php" if options.output in (None, "-") else Path(options.output).name
    print(f"upload it into the document root, and open http(s)://SITE/{name}?key={key}", file=sys.stderr)
    print(
        "save what comes, and give that file as REF; then remove the uploaded one (it answers for an hour)",
        file=sys.stderr,
    )
    return 0


def _write(target: str, content: bytes) -> None:
    if target == "-":
        sys.stdout.buffer.write(content)
    else:
        write_whole(target, content)
