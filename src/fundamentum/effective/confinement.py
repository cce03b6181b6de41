"""What the configuration takes away: functions, and what lies outside of the directories that PHP may open.

Source: php.net, ``disable_functions`` and ``open_basedir``; ``php_check_specific_open_basedir`` in PHP; asked of real
pools: a program outside of ``open_basedir`` is run, but its file is not seen.
"""

from collections.abc import Mapping
from typing import Final

from msgspec.structs import replace

from fundamentum.effective.file_access import inside
from fundamentum.model.findings import Finding, Target
from fundamentum.model.php import Setting
from fundamentum.model.surrounding_facts import Place
from fundamentum.model.survey import Site

RUNNERS: Final = ("exec", "shell_exec", "system", "passthru", "proc_open", "popen")


def disabled(target: Target) -> tuple[frozenset[str], Setting | None]:
    """The functions that are taken away, and the setting that does it: PHP finds them in lower case alone."""
    setting = target.runtime.settings.get("disable_functions")
    names = (setting.value or "").replace(" ", ",").split(",") if setting else []
    return frozenset(name.strip() for name in names if name.strip()), setting


def fenced(path: str, target: Target) -> Setting | None:
    """The ``open_basedir`` that keeps PHP from opening a path, or may do so where its value is not known."""
    setting = target.runtime.settings.get("open_basedir")
    if setting is None or setting.value == "":
        return None
    if setting.value is None:
        return setting
    parts = [part for part in setting.value.split(";" if ";" in setting.value else ":") if part.startswith("/")]
    return None if any(inside(path, part) for part in parts) else setting


def kept_from(site: Site, places: Mapping[str, Place], target: Target) -> Setting | None:
    """The ``open_basedir`` that keeps PHP from the site's own scripts; None where it may open them.

    None too where that stands in another directory of the site, or the document root was not looked at.
    """
    folder = places.get(site.root or "")
    if folder is None or folder.kind == "unreadable":
        return None
    script = f"{folder.path.rstrip('/')}/index.php"
    place = places.get(script)
    if place and place.kind == "file":
        script = place.real or script
    elif folder.real:
        script = f"{folder.real}/index.php"
    setting = fenced(script, target)
    if setting is None or setting.value is None:
        return None
    below = {assignment.origin for layer in site.layers if layer.below for assignment in layer.values}
    return None if setting.origin in below else setting


def judge_directory(finding: Finding, path: str, target: Target) -> Finding:
    """The finding about a directory, where PHP may not open what is there, whatever its rights are."""
    if chroot := target.runtime.chroot:
        why = f"PHP is shut into {chroot}, where other paths count: look whether it is there"
        return replace(finding, verdict="unknown", remedy=why, demands=())
    setting = fenced(path, target)
    if setting is None or finding.verdict == "unknown":
        return finding
    if setting.value is None:
        why = f"whether PHP may open it is not known: look at open_basedir at {setting.origin}"
        return replace(finding, verdict="unknown", remedy=why) if finding.verdict == "met" else finding
    words = f"{finding.found}, outside of open_basedir ({setting.origin})"
    remedies = [finding.remedy, f"add {path} to open_basedir at {setting.origin}, for this application alone"]
    return replace(finding, verdict="unmet", found=words, remedy="; ".join(filter(None, remedies)))


def judge_command(finding: Finding, path: str, target: Target) -> Finding:
    """The finding about a program that is there, where PHP may run none, or does not see its file."""
    if chroot := target.runtime.chroot:
        why = f"PHP is shut into {chroot}: look whether the program is there, with all that it needs"
        return replace(finding, verdict="unknown", remedy=why)
    gone, setting = disabled(target)
    if setting and setting.value is None:
        why = f"whether PHP may run programs is not known: look at disable_functions at {setting.origin}"
        return replace(finding, verdict="unknown", remedy=why)
    if setting and gone.issuperset(RUNNERS):
        actual = f"{finding.found}, but disable_functions lets PHP run no program ({setting.origin})"
        remedy = f"take what the application calls ({', '.join(RUNNERS)}) out of disable_functions at {setting.origin}"
        return replace(finding, verdict="unmet", found=actual, remedy=remedy, origin=setting.origin)
    remarks = [finding.remark] if finding.remark else []
    if setting and (some := [name for name in RUNNERS if name in gone]):
        remarks.append(f"disable_functions takes {', '.join(some)} away ({setting.origin})")
    if fence := fenced(path, target):
        remarks.append(f"outside of open_basedir ({fence.origin}): it can be run, but PHP does not see its file")
    return replace(finding, remark="; ".join(remarks) or None)
