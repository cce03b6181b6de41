"""Arguments that several commands share."""

import argparse

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


def applications(parser: argparse.ArgumentParser, number: str = "+") -> None:
    """The applications."""
    parser.add_argument(
        "applications",
        metavar="APP",
        nargs=number,
        help="a needs file (*.needs.toml), a directory that holds one, or an application's directory or archive; none: "
        "those that the server serves, where that is read as files",
    )


def accepted(parser: argparse.ArgumentParser) -> None:
    """Findings that are accepted."""
    parser.add_argument(
        "--accepted",
        metavar="FILE",
        action="append",
        default=[],
        help="findings that somebody has decided to live with (*.accepted.toml), for all APPs; may be given several "
        "times; NAME.accepted.toml beside NAME.needs.toml is read without being named",
    )


def database(parser: argparse.ArgumentParser) -> None:
    """The database server to be used."""
    parser.add_argument(
        "--database",
        metavar="ADDRESS",
        help="the database server to be used, if it is not this server's own: HOST, HOST:PORT or a socket's path; it "
        "is greeted from here, without logging in",
    )


def server(parser: argparse.ArgumentParser) -> None:
    """The server, and what on it is judged."""
    parser.add_argument("--server", metavar="REF", help=SERVER_HELP)
    reaching(parser)
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


def new_site(parser: argparse.ArgumentParser) -> None:
    """A site to be set up, and what comes with it."""
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


def reaching(parser: argparse.ArgumentParser) -> None:
    """How a server is read, and whether what runs there is asked."""
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
