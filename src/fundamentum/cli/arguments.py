"""The command line: every command with its arguments."""

import argparse
import re
from collections.abc import Callable, Iterator

from fundamentum import __version__
from fundamentum.cli.exit_codes import USAGE_ERROR
from fundamentum.cli.help_format import Help, HelpAsWritten
from fundamentum.cli.shared_arguments import (
    NEEDS_HELP,
    SERVER_HELP,
    accepted,
    applications,
    database,
    new_site,
    reaching,
    server,
)
from fundamentum.entries import entry
from fundamentum.report import checks, plans

PLAN_FILE = ".plan.json"
MAX_SECONDS = 3600
"""The longest that reading an application may be allowed to take."""
"""How the name of a plan ends that is kept in a file."""


class Parser(argparse.ArgumentParser):
    """Errors in one line, without the usage text above it."""

    def error(self, message: str) -> "None":  # type: ignore[override]
        shown = "".join(c if c.isprintable() else "?" for c in message) + self._meant(message)
        self.exit(USAGE_ERROR, f"{self.prog}: {shown}; see '{self.prog} --help'\n")

    def _meant(self, message: str) -> str:
        """What may have been meant by an option, a command or a choice that there is not."""
        choice = re.search(r"invalid choice: '(.*?)' \(choose from (.*)\)", message)
        unknown = re.match(r"unrecognized arguments: .*?(--?[\w-]+)", message)
        if choice:
            word, known = choice[1], re.findall(r"[\w-]+", choice[2])
        elif unknown:
            word, known = unknown[1], [option for parser in self._all() for option in parser._option_string_actions]
        else:
            return ""
        suggestion: str = entry("fundamentum.catalog", "near").did_you_mean(word, known)
        return suggestion

    def _all(self) -> "Iterator[argparse.ArgumentParser]":
        """This parser, and those of its commands."""
        yield self
        for action in self._actions:
            if isinstance(action, argparse._SubParsersAction):
                yield from action.choices.values()


def _check(command: argparse.ArgumentParser) -> None:
    command.formatter_class = HelpAsWritten
    command.description = "Say everything an application needs and a server lacks, with the remedy for each."
    command.epilog = NEEDS_HELP
    applications(command, "*")
    command.add_argument(
        "--newest",
        action="store_true",
        help="the APPs are releases of one application: say which is the newest that this server can run",
    )
    server(command)
    accepted(command)
    database(command)
    command.add_argument(
        "--format", choices=checks.names(), default="text", help="how to write the findings (default: text)"
    )
    exclusive = command.add_mutually_exclusive_group()
    exclusive.add_argument(
        "--quiet", action="store_true", help="as text, one line for each application, and no remarks"
    )
    exclusive.add_argument("--verbose", action="store_true", help="as text, also where each need is met that is met")


def _plan(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Plan what turns the server into one that meets the needs. This program itself changes nothing."
    )
    applications(command, "*")
    server(command)
    accepted(command)
    database(command)
    command.add_argument(
        "--format",
        choices=plans.names(),
        help="text, JSON, a POSIX shell script to read and then run, or an Ansible playbook (default: text; json where "
        f"the file that is written ends in {PLAN_FILE})",
    )
    new_site(command)
    command.add_argument(
        "--from",
        dest="plan_file",
        metavar="FILE",
        help=f"instead of making a plan, read one that was written as JSON (NAME{PLAN_FILE}), to write it as another "
        "format",
    )
    command.add_argument(
        "--index",
        metavar="PATH",
        action="append",
        default=[],
        help="also plan with packages of an index that is not configured on the server: a Packages file, a repodata "
        "directory, or the directory of a mirror; may be given several times",
    )
    command.add_argument(
        "--write-files",
        metavar="DIR",
        help="also write the configuration files of the plan below DIR, each with its whole path, to be taken to the "
        "server",
    )
    command.add_argument("--full", action="store_true", help="write long lists of packages whole")
    command.add_argument("--required-only", action="store_true", help="leave recommended needs out of the plan")
    command.add_argument(
        "-o", "--output", metavar="FILE", default="-", help="write to FILE; - is standard output (default)"
    )


def _derive(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Find out what a PHP application needs, from its manifest, source and settings files, which are "
        "only read. Without -o, a summary for a person."
    )
    command.add_argument(
        "directory",
        metavar="DIR",
        help="the application's directory or archive; or a text of requirements: a file, or - for one that is pasted",
    )
    command.add_argument(
        "newer",
        metavar="NEW",
        nargs="?",
        help="another release of it: what that needs otherwise is told (exit 1 if it does)",
    )
    command.add_argument("--format", choices=("text", "json"), default="text", help="text (the default) or json")
    command.add_argument(
        "-o",
        "--output",
        metavar="FILE",
        help="write a needs file (NAME.needs.toml); over an existing one, your changes in it are kept; - is standard "
        "output",
    )
    command.add_argument(
        "--explain", metavar="NAME", help="show all evidence for one need: an extension, a setting, or php"
    )
    command.add_argument("--fresh", action="store_true", help="read the files even if nothing in the tree has changed")
    command.add_argument(
        "--seconds",
        metavar="N",
        type=_seconds,
        help="how long reading may take (20 without this); of what is left then a check says that it cannot tell",
    )


def _seconds(text: str) -> int:
    number = int(text) if text.isascii() and text.isdecimal() and len(text) < 6 else 0
    if not 1 <= number <= MAX_SECONDS:
        raise argparse.ArgumentTypeError(f"{text[:40]!r} is no whole number from 1 to {MAX_SECONDS}")
    return number


def _survey(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Record what a server has, for a check elsewhere or later. Without -o, a summary for a person."
    )
    command.add_argument("server", metavar="REF", nargs="?", help=SERVER_HELP)
    reaching(command)
    command.add_argument(
        "--for",
        dest="applications",
        metavar="APP",
        action="append",
        default=[],
        help="look also at what this application asks about beside PHP: directories, commands, databases, tasks; may "
        "be given several times (check and plan do so of themselves)",
    )
    command.add_argument(
        "--directory",
        metavar="DIR",
        help="with --for: where the application stands on the server, or will once a plan has set up a site for it",
    )
    database(command)
    command.add_argument(
        "--recorder",
        choices=("shell", "powershell", "php"),
        nargs="?",
        const="shell",
        help="instead print a shell script that records a server where nothing may be installed: run it there "
        "(sh recorder.sh), and give the archive it writes as REF; powershell: one for PowerShell; php: a "
        "file to be uploaded where there is no shell, "
        "and opened in a browser with the key that is printed",
    )
    command.add_argument(
        "-o",
        "--output",
        metavar="FILE",
        help="write the whole survey as JSON to FILE (NAME.survey.json); - is standard output",
    )


def _trace(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Say where an extension, a setting, a package or a command stands on a server: every place that "
        "has a say, in the order in which they are read, what wins for each runtime, which package brings it, who "
        "needs it."
    )
    command.add_argument(
        "name", metavar="NAME", help="gd, memory_limit, php8.2-gd, git; or extension:NAME, setting:NAME, ..."
    )
    command.add_argument("applications", metavar="APP", nargs="*", help="say also how these applications need it")
    command.add_argument("--server", metavar="REF", help=SERVER_HELP)
    reaching(command)


def _compare(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Say what differs between two servers, or one server then and now, that matters for PHP; or between two plans "
        f"(NAME{PLAN_FILE}). With applications, only what matters to them. Ends with 1 if something differs."
    )
    command.add_argument("first", metavar="REF", help=SERVER_HELP.replace("the machine itself (left out); ", ""))
    command.add_argument("second", metavar="REF", help="the other one")
    command.add_argument(
        "applications", metavar="APP", nargs="*", help="a needs file, or a directory: tell only what matters to it"
    )
    reaching(command)
    command.add_argument(
        "--format", choices=("text", "json"), default="text", help="how to write the differences (default: text)"
    )


def _needs(command: argparse.ArgumentParser) -> None:
    command.description = "Check a needs file and say what each of its entries means; no server is needed."
    command.epilog = NEEDS_HELP
    command.formatter_class = HelpAsWritten
    command.add_argument("applications", metavar="APP", nargs="+", help="a needs file, or an application's directory")


def _help(command: argparse.ArgumentParser) -> None:
    command.description = "Explain a command, or what all of them have in common."
    command.add_argument("topic", metavar="TOPIC", nargs="?", help="a command, or a topic; left out: what there is")


def _demo(command: argparse.ArgumentParser) -> None:
    command.description = "A small observatory with two servers: one ready, one full of gaps. Needs no server of yours."


COMMANDS: dict[str, tuple[str, Callable[[argparse.ArgumentParser], None]]] = {
    "check": ("say everything that is missing on a server", _check),
    "plan": ("say what to install, switch on, set and restart", _plan),
    "derive": ("find out what an application needs, from its own files", _derive),
    "survey": ("record what a server has", _survey),
    "trace": ("say everything about one extension, setting, package or command", _trace),
    "compare": ("say what differs between two servers, or between then and now", _compare),
    "needs": ("check and explain a needs file, without a server", _needs),
    "help": ("explain a command, or what all of them have in common", _help),
    "demo": ("show all of this on made-up servers", _demo),
}


def parser(only: str | None = None) -> argparse.ArgumentParser:
    """The whole command line; ``only``: of one command, where it begins with that, in a fraction of the time."""
    top = Parser(
        prog="fundamentum",
        description="Hold a PHP application's needs against a server, and plan what is missing: all of it, at once.",
        epilog="Exit codes: 0 all required needs met, 1 something required unmet, 2 unusable input, 3 the "
        "program itself failed, 130 interrupted.",
        formatter_class=Help,
    )
    debug = "after a failure of the program itself, print where it failed"
    top.add_argument("--debug", action="store_true", help=debug)
    color = {"choices": ("auto", "always", "never"), "help": "whether to write colours (default: to a terminal)"}
    top.add_argument("--color", default="auto", **color)  # type: ignore[arg-type]
    top.add_argument("--version", action="version", version=f"fundamentum {__version__}")
    # Named, the program need not be found out by writing the usage.
    commands = top.add_subparsers(dest="command", metavar="COMMAND", required=True, prog=top.prog)
    for name in [only] if only in COMMANDS else COMMANDS:
        short, fill = COMMANDS[name]
        command = commands.add_parser(name, help=short, formatter_class=Help)
        fill(command)
        command.add_argument("--debug", action="store_true", default=argparse.SUPPRESS, help=debug)
        command.add_argument("--color", default=argparse.SUPPRESS, **color)  # type: ignore[arg-type]
    return top
