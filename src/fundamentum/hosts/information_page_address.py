"""The information page at an address: one request, no redirection, and an end to all patience."""

import base64
import http.client
import socket
import ssl
from typing import Final
from urllib.parse import SplitResult, quote, unquote, urlsplit

from fundamentum.errors import InputError
from fundamentum.hosts.information_page import MAX_PAGE, is_page, survey_page
from fundamentum.model.survey import Survey
from fundamentum.untrusted.decompress import unpack
from fundamentum.untrusted.peers import within

CONNECT_TIMEOUT: Final = 10
TIMEOUT: Final = 20
"""Seconds for the whole answer, however slowly it comes."""


def survey_address(address: str) -> Survey:
    """The survey of the information page that a web server shows at an http or https address."""
    try:
        parts = urlsplit(address)
        where = f"{parts.scheme}://{parts.hostname or ''}{f':{parts.port}' if parts.port else ''}{parts.path}"
    except ValueError as error:
        raise InputError(f"{address.partition('://')[0]}://…", f"is no address ({error})") from error
    if parts.scheme not in ("http", "https") or not parts.hostname:
        what = "is no way to reach a server; write ssh://[user@]host, or the http(s) address of an information page"
        raise InputError(f"{address.partition('://')[0]}://…", what)
    try:
        code, target, data = _answer(parts)
    except (OSError, http.client.HTTPException, ValueError, EOFError) as error:
        raise InputError(where, f"does not answer ({_reason(error)})") from error
    if 300 <= code < 400:
        raise InputError(where, f"sends on to another address{target} (status {code}); give that one")
    if code != 200:
        raise InputError(where, f"answers with status {code}, not with an information page")
    if not is_page(data):
        raise InputError(where, "answers, but not with an information page")
    return survey_page(data, where, where)


def _answer(parts: SplitResult) -> tuple[int, str, bytes]:
    """The status, where the answer sends on to (without what may be secret in it), and the body."""
    host = (parts.hostname or "").encode("idna").decode("ascii") if parts.hostname else ""
    secure = parts.scheme == "https"
    port = parts.port or (443 if secure else 80)
    link = socket.create_connection((host, port), CONNECT_TIMEOUT)
    link.settimeout(TIMEOUT)
    if secure:  # which takes the socket over
        context = ssl.create_default_context()
        link = context.wrap_socket(link, server_hostname=host, do_handshake_on_connect=False)
    with link, within(link, TIMEOUT):
        if isinstance(link, ssl.SSLSocket):
            link.do_handshake()
        connection = http.client.HTTPConnection(host, port)
        connection.sock = link
        path = quote(parts.path or "/", safe="/%:@!$&'()*+,;=~") + (
            f"?{quote(parts.query, safe='/%:@!$&()*+,;=~?')}" if parts.query else ""
        )
        connection.request("GET", path, headers=_headers(parts))
        answer = connection.getresponse()
        data = answer.read(MAX_PAGE + 1)
        target = urlsplit(answer.getheader("Location") or "")
        onto = f", {target.scheme}://{target.hostname}{target.path}" if target.hostname else ""
        if answer.getheader("Content-Encoding", "").lower() == "gzip":
            data, _ = unpack(data, ".gz", MAX_PAGE + 1)
        return answer.status, onto, data


def _headers(parts: SplitResult) -> dict[str, str]:
    headers = {"Accept-Encoding": "identity", "User-Agent": "fundamentum", "Connection": "close"}
    if parts.username is not None:
        words = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
        headers["Authorization"] = "Basic " + base64.b64encode(words.encode()).decode("ascii")
    return headers


def _reason(error: BaseException) -> str:
    """The innermost cause in a few words: what wraps it may repeat the address, with all that may be in it."""
    while (cause := error.__cause__ or error.__context__) is not None:
        error = cause
    if isinstance(error, OSError) and error.strerror:
        return error.strerror
    return type(error).__name__
