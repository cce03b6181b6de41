"""A way of running PHP as its package would set it up, before anybody has changed anything."""

from fundamentum.catalog import facts
from fundamentum.model.origin import BUILT_IN, Origin
from fundamentum.model.php import Loaded, Runtime, Sapi, Setting
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform


def fresh_runtime(survey: Survey, branch: str, sapi: Sapi) -> Runtime:
    """The runtime as its package would set it up: compiled-in extensions, the packaged php.ini."""
    known = facts(branch)
    packaged = known.packaged["cli" if sapi == "cli" else "web"]
    place = platform(survey.system.family).place(branch, sapi)
    ini_file = place.ini_file
    settings: dict[str, Setting] = {}
    owners = {"core", "standard", *(shown.lower() for shown in known.static.get(sapi, ()))}
    for name, directive in known.directives.items():
        default = known.default(name, sapi)
        if default is None or directive.owner not in owners:
            continue
        value = known.forced.get(sapi, {}).get(name)
        origin = BUILT_IN
        if value is None and name in packaged:
            value, origin = packaged[name], Origin(ini_file, 0)
        settings[name] = Setting(default if value is None else value, origin)
    return Runtime(
        branch=branch,
        sapi=sapi,
        version=None,
        pool="www" if sapi == "fpm" else None,
        serves=sapi != "cli",
        ini_file=ini_file,
        scan_dir=place.scan_dir,
        pool_dir=place.pool_dir if sapi == "fpm" else None,
        service=place.service,
        listen=place.listen if sapi == "fpm" else None,
        listen_owner=platform(survey.system.family).php_user if sapi == "fpm" else None,
        settings=settings,
        extensions=tuple(Loaded(shown.lower(), shown, BUILT_IN) for shown in known.static.get(sapi, ())),
    )
