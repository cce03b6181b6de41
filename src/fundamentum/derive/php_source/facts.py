"""What is found in one file of an application, as values that are cheap to keep and to send between processes."""

from typing import Final, Literal

import msgspec

Guard = Literal["", "checked", "caught", "explained", "chosen", "instead", "version", "never"]
"""What stands around a use: nothing; a check whether it exists; a catch for its failure; a check that ends in an
exception which explains what is missing; a choice by name; a check that another extension is missing; a test of PHP's
version; a check that something is missing which every PHP has."""


COMMAND_LINE: Final = "on the command line"
"""Among the names around a use: it is reached on the command line alone."""
INSTEAD_OF: Final = "instead of "
"""Begins what stands among them for an extension in whose absence it runs."""

WITHOUT: Final = "without "
"""Begins what stands among them for a name whose answer is no where it runs, ``without HAS_GMP``: what that says of an
extension may stand in another file."""


class Fact(msgspec.Struct, frozen=True, array_like=True, gc=False):
    """Base of the values here."""


class Use(Fact, frozen=True):
    """Something that only an extension provides, used at one place."""

    extensions: tuple[str, ...]
    """The extensions that provide it; any one will do."""
    kind: str
    """``function``, ``class``, ``constant``, ``scheme``, ``connection``."""
    name: str
    line: int
    guard: Guard
    names: tuple[str, ...]
    """What the conditions around it speak of: a name may hold the result of a check made elsewhere."""
    weak: bool
    """Only mentioned, in a type or a comparison: nothing fails where it is missing."""
    scope: str
    """The class around it, in lower case; else empty."""
    own: str = ""
    """The function of the same name in the namespace around it, which comes first where there is one."""
    function: str = ""
    """The function or method around it, in lower case; else empty."""
    behind: tuple[str, ...] = ()
    """Functions that are called before it where the extension is missing: those that end the program protect it."""


class Check(Fact, frozen=True):
    """A place that asks whether an extension is there."""

    extension: str
    outcome: Literal[
        "asked", "exits", "leaves", "throws", "reports", "goes-on", "warns", "listed-required", "listed-recommended"
    ]
    """``leaves``: only the file is left, once it has told why; ``reports``, ``warns``: where it is missing, that is an
    error, or something worth knowing; ``goes-on``: it goes on without it, though it ends without others."""
    line: int
    what: str
    among: tuple[str, ...] = ()
    """The extensions of which any one is enough for the same place: ``if (!a && !b) exit;``"""
    around: str = ""
    """The names of the class and the function that it stands in, and of what it is given to."""
    command_line: bool = False
    """Whether it is reached on the command line alone."""


class Syntax(Fact, frozen=True):
    """A construct or symbol that bounds the version of PHP."""

    since: str
    gone: str
    what: str
    line: int


Operator = Literal["<", ">="]
Outcome = Literal["stops", "reports", "warns", ""]
"""What a branch comes to: the program ends; it reports an error; it recommends something; neither."""


class Gate(Fact, frozen=True):
    """One statement of a program about PHP's version: it runs where the version is so."""

    operator: Operator
    version: str
    """``8.1.0``"""
    line: int
    what: str
    outcome: Outcome
    """What comes of it where the version is otherwise."""
    function: str = ""
    """The names of the class and the function that it stands in, and of what it is given to; empty for the file's own
    code."""
    sure: bool = True
    """Whether it is come to whatever is not known: what a visitor sends, what is configured."""


class Wish(Fact, frozen=True):
    """Something about the surroundings: a setting, a command, a directory, a function that hosts switch off.

    Or a module of the web server; or what lies beneath PHP: versions, and how it was built.
    """

    kind: Literal[
        "setting",
        "command",
        "directory",
        "function",
        "web_module",
        "library",
        "extension",
        "feature",
        "build",
        "absent",
    ]
    name: str
    value: str
    """For a setting the condition, for a library or an extension the versions, for a build how it is to be, as a needs
    file writes them; empty: only mentioned."""
    line: int
    how: str
    stops: bool = False
    """Whether the program ends, or reports an error, where it is not so."""
    around: str = ""
    """The names of the class and the function that a switch is asked for in; empty for all else."""


class FileFacts(Fact, frozen=True):
    """All that one source file tells."""

    uses: tuple[Use, ...] = ()
    checks: tuple[Check, ...] = ()
    check_names: tuple[tuple[str, str], ...] = ()
    """Names that hold the result of a check, with the extension."""
    functions: tuple[str, ...] = ()
    """Functions that the file defines and an extension provides too, with their namespace, in lower case."""
    classes: tuple[str, ...] = ()
    constants: tuple[str, ...] = ()
    syntax: tuple[Syntax, ...] = ()
    wishes: tuple[Wish, ...] = ()
    loader: str = ""
    """The name of the loader that an encoded file asks for."""
    broken: bool = False
    """Whether the file does not parse as a whole."""
    versioned: tuple[str, ...] = ()
    """Names of files that it includes only under some versions of PHP."""
    gates: tuple[Gate, ...] = ()
    removed: tuple[tuple[int, str], ...] = ()
    """Line and name of each call of a function that is gone from PHP, and exists nowhere else."""
    unfinished: bool = False
    """Whether a comment at its beginning says that it is experimental."""
