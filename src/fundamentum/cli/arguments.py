"""The command line: every command with its arguments."""

import argparse
from collections.abc import Callable

from fundamentum import __version__
from fundamentum.report import checks, plans

USAGE_ERROR = 2
PLAN_FILE = ".plan.json"
"""How the name of a plan ends that is kept in a file."""


class Parser(argparse.ArgumentParser):
    """Errors in one line, without the usage text above it."""

    def error(self, message: str) -> "None":  # type: ignore[override]
        shown = "".join(c if c.isprintable() else "?" for c in message)
        self.exit(USAGE_ERROR, f"{self.prog}: {shown}; see '{self.prog} --help'\n")


SERVER_HELP = (
    "the machine itself (left out); a directory: a root file system, or one that holds PHP for Windows; "
    "ssh://[user@]host[:port]; a file: a survey (*.survey.json), a recording, a saved information page or the output "
    "of php -i; or the http(s) address of an information page"
)

NEEDS_HELP = """\
A needs file, for example nightlog.needs.toml:

  format = 1
  [application]
  name = "nightlog"
  [php]
  version = ">=8.1, <8.5"            # every comparison must hold
  preferred = "8.3"
  [extensions]
  required = ["mbstring", "pdo_mysql | pdo_pgsql"]   # | means any one
  recommended = ["intl"]
  [settings.required]
  memory_limit = ">= 256M"           # or "on", "off", "unset", "= VALUE"
  "session.auto_start" = "off"
  [loaders]
  required = ["Orrery Loader"]       # the name as PHP lists it
  [notes]
  "extension:intl" = "why it is needed"

Limits of uploads and requests, databases, commands, directories, the machine and scheduled tasks have tables of their
own: see docs/needs-format.md.
"""


def _applications(parser: argparse.ArgumentParser, number: str = "+") -> None:
    parser.add_argument(
        "applications",
        metavar="APP",
        nargs=number,
        help="a needs file (*.needs.toml), a directory that holds one, or an application's directory",
    )


def _accepted(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--accepted",
        metavar="FILE",
        action="append",
        default=[],
        help="findings that somebody has decided to live with (*.accepted.toml), for all APPs; may be given several "
        "times; NAME.accepted.toml beside NAME.needs.toml is read without being named",
    )


def _database(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--database",
        metavar="ADDRESS",
        help="the database server to be used, if it is not this server's own: HOST, HOST:PORT or a socket's path; it "
        "is greeted from here, without logging in",
    )


def _server(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--server", metavar="REF", help=SERVER_HELP)
    _reaching(parser)
    parser.add_argument(
        "--runtime",
        metavar="SEL",
        help="what to judge: BRANCH[/SAPI[/POOL]], such as 8.2/fpm/www, or the name of a web site on the server "
        "(default: the runtime that serves the web)",
    )
    parser.add_argument(
        "--directory",
        metavar="DIR",
        help="where the application stands on the server: the site whose document root is there is judged",
    )


def _new_site(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--site",
        metavar="NAME",
        help="the web site that serves the application: one that is there, or a new one, which is set up then; a new "
        "one takes one APP, and --directory with the whole path where the application stands, or will",
    )
    parser.add_argument(
        "--web-server",
        metavar="SERVER",
        help="behind which web server a new site is set up, as a needs file names it (default: the one that is there, "
        "else the first that the application names)",
    )

    parser.add_argument(
        "--after-installation",
        action="store_true",
        help="close what the application's installer had to write to ([installation] of a needs file)",
    )
    parser.add_argument(
        "--database-password-file",
        metavar="PATH",
        help="a file on the server, of root's own, with the password for the application's user of the database "
        "(default: one is made there, and put into a file that the plan names)",
    )


def _reaching(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--sudo", action="store_true", help="over ssh://, read as root: runs 'sudo -n' there, which must be allowed"
    )
    asking = parser.add_mutually_exclusive_group()
    asking.add_argument(
        "--ask",
        "--ask-pools",
        dest="ask",
        action="store_const",
        const="running",
        default="files",
        help="also ask each running FPM pool, and each site that it serves, what it really has: puts a small script "
        "into a new directory below /run (or one the pool may read), has it run over FastCGI, and removes it",
    )
    asking.add_argument(
        "--ask-with-file",
        dest="ask",
        action="store_const",
        const="with-file",
        help="the same with the script in each site's document root for a moment, so that files in directories count "
        "too, and a module in a web server can be asked, over HTTP on this machine",
    )


def _check(command: argparse.ArgumentParser) -> None:
    command.formatter_class = argparse.RawDescriptionHelpFormatter
    command.description = "Say everything an application needs and a server lacks, with the remedy for each."
    command.epilog = NEEDS_HELP
    _applications(command)
    _server(command)
    _accepted(command)
    _database(command)
    command.add_argument(
        "--format", choices=checks.names(), default="text", help="how to write the findings (default: text)"
    )


def _plan(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Plan what turns the server into one that meets the needs. This program itself changes nothing."
    )
    _applications(command, "*")
    _server(command)
    _accepted(command)
    _database(command)
    command.add_argument(
        "--format",
        choices=plans.names(),
        help="text, JSON, a POSIX shell script to read and then run, or an Ansible playbook (default: text; json where "
        f"the file that is written ends in {PLAN_FILE})",
    )
    _new_site(command)
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
    command.add_argument("directory", metavar="DIR", help="the application's directory")
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


def _survey(command: argparse.ArgumentParser) -> None:
    command.description = (
        "Record what a server has, for a check elsewhere or later. Without -o, a summary for a person."
    )
    command.add_argument("server", metavar="REF", nargs="?", help=SERVER_HELP)
    _reaching(command)
    command.add_argument(
        "--for",
        dest="applications",
        metavar="APP",
        action="append",
        default=[],
        help="look also at what this application asks about beside PHP: directories, commands, databases, tasks; may "
        "be given several times (check and plan do so of themselves)",
    )
    _database(command)
    command.add_argument(
        "--recorder",
        choices=("shell", "php"),
        nargs="?",
        const="shell",
        help="instead print a shell script that records a server where nothing may be installed: run it there "
        "(sh recorder.sh), and give the archive it writes as REF; php: a file to be uploaded where there is no shell, "
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
    _reaching(command)


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
    _reaching(command)
    command.add_argument(
        "--format", choices=("text", "json"), default="text", help="how to write the differences (default: text)"
    )


def _demo(command: argparse.ArgumentParser) -> None:
    command.description = "A small observatory with two servers: one ready, one full of gaps. Needs no server of yours."


COMMANDS: dict[str, tuple[str, Callable[[argparse.ArgumentParser], None]]] = {
    "check": ("say everything that is missing on a server", _check),
    "plan": ("say what to install, switch on, set and restart", _plan),
    "derive": ("find out what an application needs, from its own files", _derive),
    "survey": ("record what a server has", _survey),
    "trace": ("say everything about one extension, setting, package or command", _trace),
    "compare": ("say what differs between two servers, or between then and now", _compare),
    "demo": ("show all of this on made-up servers", _demo),
}


def parser(only: str | None = None) -> argparse.ArgumentParser:
    """The whole command line; ``only``: with the arguments of one command, which takes a fraction of the time."""
    top = Parser(
        prog="fundamentum",
        description="Hold a PHP application's needs against a server, and plan what is missing: all of it, at once.",
        epilog="Exit codes: 0 all required needs met, 1 something required unmet, 2 unusable input, 3 the "
        "program itself failed, 130 interrupted.",
    )
    debug = "after a failure of the program itself, print where it failed"
    top.add_argument("--debug", action="store_true", help=debug)
    top.add_argument("--version", action="version", version=f"fundamentum {__version__}")
    # Named, the program need not be found out by writing the usage.
    commands = top.add_subparsers(dest="command", metavar="COMMAND", required=True, prog=top.prog)
    for name, (short, fill) in COMMANDS.items():
        command = commands.add_parser(name, help=short)
        if only in (None, name):
            fill(command)
            command.add_argument("--debug", action="store_true", default=argparse.SUPPRESS, help=debug)
    return top
