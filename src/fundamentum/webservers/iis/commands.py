"""The commands that change IIS, each in words; :func:`~fundamentum.model.windows_words.windows_line` writes them.

Source: Microsoft's reference of IIS configuration and of AppCmd.exe; php.net, "Installation with IIS".
"""

from typing import Final

from fundamentum.model.windows_words import shown_path

Words = tuple[str, ...]
APPCMD: Final = r"%windir%\system32\inetsrv\appcmd.exe"
_SERVER: Final = "/section:system.webServer"
MODULE: Final = "FastCgiModule"


def _windows(program: str) -> str:
    return shown_path(program) if program.startswith("/") else program


def largest_request(site: str, size: str) -> Words:
    """Let a site take requests of that many bytes."""
    section = f"{_SERVER}/security/requestFiltering"
    return (APPCMD, "set", "config", site, section, f"/requestLimits.maxAllowedContentLength:{size}")


def of_application(program: str, option: str, arguments: str = "") -> Words:
    """Set an option of a FastCGI application: ``activityTimeout:600``."""
    with_arguments = f",arguments='{arguments}'" if arguments else ""
    which = f"[fullPath='{_windows(program)}'{with_arguments}]"
    return (APPCMD, "set", "config", f"{_SERVER}/fastCgi", f"/{which}.{option}", "/commit:apphost")


def set_variable(program: str, arguments: str, name: str, value: str, before: str | None) -> tuple[Words, Words]:
    """Give a FastCGI application a variable of its environment, and the command that takes that back."""
    with_arguments = f",arguments='{arguments}'" if arguments else ""
    which = f"[fullPath='{_windows(program)}'{with_arguments}].environmentVariables."
    head = (APPCMD, "set", "config", f"{_SERVER}/fastCgi")
    if before is not None:
        changed = (f"/{which}[name='{name}'].value:{text}" for text in (value, before))
        forth, back = ((*head, word, "/commit:apphost") for word in changed)
        return forth, back
    added, removed = f"/+{which}[name='{name}',value='{value}']", f"/-{which}[name='{name}']"
    return (*head, added, "/commit:apphost"), (*head, removed, "/commit:apphost")


def add_application(program: str, arguments: str = "", *, back: bool = False) -> Words:
    """Let IIS start a program for FastCGI; ``back`` takes it off again."""
    with_arguments = f",arguments='{arguments}'" if arguments else ""
    which = f"[fullPath='{_windows(program)}'{with_arguments}]"
    return (APPCMD, "set", "config", f"{_SERVER}/fastCgi", f"/{'-' if back else '+'}{which}", "/commit:apphost")


def add_handler(site: str, name: str, program: str, *, back: bool = False) -> Words:
    """Hand the PHP files of a site to a program; it is put in front of the handlers that it inherits."""
    if back:
        return (APPCMD, "set", "config", site, f"{_SERVER}/handlers", f"/-[name='{name}']", "/commit:apphost")
    options = f"path='*.php',verb='GET,HEAD,POST,PUT,DELETE,PATCH,OPTIONS',modules='{MODULE}'"
    handler = f"/+[name='{name}',{options},scriptProcessor='{_windows(program)}',resourceType='Either']"
    return (APPCMD, "set", "config", site, f"{_SERVER}/handlers", handler, "/commit:apphost")


def of_handlers(site: str, option: str) -> Words:
    """Set an option of a site's handlers: ``accessPolicy:Read,Script``."""
    return (APPCMD, "set", "config", site, f"{_SERVER}/handlers", f"/{option}", "/commit:apphost")


def feature(*, back: bool = False) -> Words:
    """Install the part of IIS that speaks FastCGI.  Source: Microsoft's documentation of DISM."""
    verb, also = ("disable", ()) if back else ("enable", ("/all",))
    return ("dism.exe", "/online", f"/{verb}-feature", "/featurename:IIS-CGI", *also, "/norestart")


def pool_bits(pool: str, small: bool) -> Words:
    """Let the programs of an application pool have 32 bits, or as many as the system."""
    return (APPCMD, "set", "apppool", f"/apppool.name:{pool}", f"/enable32BitAppOnWin64:{str(small).lower()}")


def default_document(site: str, name: str, *, back: bool = False) -> Words:
    """Let a file answer for a directory's address."""
    entry = f"/{'-' if back else '+'}files.[value='{name}']"
    return (APPCMD, "set", "config", site, f"{_SERVER}/defaultDocument", entry)


def start_site(site: str) -> Words:
    """Let a site answer."""
    return (APPCMD, "start", "site", f"/site.name:{site}")


def start_pool(pool: str) -> Words:
    """Let an application pool run."""
    return (APPCMD, "start", "apppool", f"/apppool.name:{pool}")
