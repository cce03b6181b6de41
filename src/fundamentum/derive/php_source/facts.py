"""What is found in one file of an application, as values that are cheap to keep and to send between processes."""

from typing import Final, Literal

import msgspec

Guard = Literal["", "checked", "caught", "explained", "chosen", "instead", "version"]
"""What stands around a use: nothing; a check whether it exists; a catch for its failure; a check that ends in an
exception which explains what is missing; a choice by name; a check that another extension is missing; a test of PHP's
version."""


COMMAND_LINE: Final = "on the command line"
"""Among the names around a use: it is reached on the command line alone."""


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
    outcome: Literal["asked", "exits", "leaves", "throws", "reports", "warns", "listed-required", "listed-recommended"]
    """``leaves``: only the file is left, once it has told why; ``reports``, ``warns``: where it is missing, that is an
    error, or something worth knowing."""
    line: int
    what: str
    among: tuple[str, ...] = ()
    """The extensions of which any one is enough for the same place: ``if (!a && !b) exit;``"""
    around: str = ""
    """The names of the class and the function that it stands in, and of what it is given to."""
    list_name: str = ""
    """What the list is called that names the extension."""
    command_line: bool = False
    """Whether it is reached on the command line alone."""
    calls: tuple[str, ...] = ()
    """The functions that are called where it is missing: of the program's own, they may end it."""


class Syntax(Fact, frozen=True):
    """A construct or symbol that bounds the version of PHP."""

    since: str
    gone: str
    what: str
    line: int


class Name(Fact, frozen=True):
    """What holds a version elsewhere: ``MIN_PHP``, ``self::PHP``, ``$required``, ``$config['php']``."""

    kind: Literal["constant", "variable", "key", "function"]
    name: str


Operator = Literal["<", "<=", ">", ">="]
Outcome = Literal["stops", "reports", "warns", ""]
"""What a branch comes to: the program ends; it reports an error; it recommends something; neither."""


class Gate(Fact, frozen=True):
    """One statement of a program about PHP's version: it runs where the version is so."""

    operator: Operator
    version: str | Name
    """``8.1.0``; or what holds it."""
    line: int
    what: str
    outcome: Outcome
    """What comes of it where the version is otherwise."""
    function: str = ""
    """The names of the class and the function that it stands in, and of what it is given to; empty for the file's own
    code."""
    includes: str = ""
    """The file that is included where the version is otherwise: what comes of it may stand there."""
    calls: tuple[str, ...] = ()
    """The functions that are called there."""


class Wish(Fact, frozen=True):
    """Something about the surroundings: a setting, a command, a directory, a function that hosts switch off."""

    kind: Literal["setting", "command", "directory", "function"]
    name: str
    value: str
    """For a setting the condition, as a needs file writes it; empty: only mentioned."""
    line: int
    how: str
    stops: bool = False
    """Whether the program ends, or reports an error, where it is not so."""
    around: str = ""
    """The names of the class and the function that a switch is asked for in; empty for all else."""


class Asker(Fact, frozen=True):
    """A function or a class of the program's own that asks for the extension it is given, or that it names."""

    kind: Literal["call", "property", "method", "constant", "answer", "kept"]
    """Where that stands: in the call; in a property, the value of a method or a constant of a class; in itself.

    ``kept``: no function, but a constant or a static property that holds the answer.
    """
    name: str
    """The function, or the class that is made (in lower case); the property, the method, the constant."""
    position: int
    """Which argument it is, from zero."""
    listed: bool
    """Whether a list of them is given."""
    asks: str
    """What the names are of: ``extension``, ``function``, ``class``; ``php``: a version of PHP;
    ``setting``: a directive, behind which its least value is given; ``switch``: a directive that is on or off."""
    outcome: Outcome
    """What comes of it in the function itself where one is missing."""
    answers: str
    """What it returns: ``present``, something true where it is there; ``missing``; empty: neither."""
    around: str
    """The names of the class and the function."""
    made: bool = False
    """Whether it is a class that is made."""
    operator: Operator = ">="
    """How PHP's version has to be to the one that is given; of one that answers, what it answers by."""
    names: tuple[str, ...] = ()
    """What one asks for that is given nothing: extensions, or a version."""


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
    held: tuple[Check, ...] = ()
    """Lists that are held against what is loaded, and stand in another file: checks of no extension yet."""
    askers: tuple[Asker, ...] = ()
