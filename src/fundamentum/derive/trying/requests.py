"""What a program is told of the request, or of the command, by which it is run."""

from typing import Any, Final

from fundamentum.derive.trying.values import OneOf

PAGE: Final = "fpm-fcgi"
COMMAND_LINE: Final = "cli"
SENT: Final = frozenset("$_GET $_POST $_REQUEST $_FILES".split())
"""What holds all that a visitor sends with a request: nothing, where somebody only asks for a page."""
_REQUEST: Final[dict[str, list[Any]]] = {
    "REQUEST_METHOD": ["GET", "POST"],
    "REQUEST_URI": ["/", "/index.php"],
    "REMOTE_ADDR": ["127.0.0.1", "192.0.2.1"],
    "HTTP_HOST": ["localhost", "example.org"],
    "SERVER_NAME": ["localhost", "example.org"],
    "GATEWAY_INTERFACE": ["CGI/1.1", "CGI/1.0"],
}
"""What a page is told of its request: one of some, so that nothing is known of it but that it is there."""
_ARGUMENTS: Final[dict[str, list[Any]]] = {"argc": [1, 2]}


def request(interface: str) -> dict[str, Any]:
    """What ``$_SERVER`` holds of it: of a page all of the request, of a command nothing.

    ``interface``: by what the program is run, as PHP calls that; empty where it is not known.
    """
    if not interface:
        return {}
    there, absent = (_ARGUMENTS, _REQUEST) if interface == COMMAND_LINE else (_REQUEST, _ARGUMENTS)
    return {**dict.fromkeys(absent), **{name: OneOf(values) for name, values in there.items()}}
