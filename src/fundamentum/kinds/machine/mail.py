"""Whether PHP's ``mail`` has a program that takes what it sends."""

import shlex

from msgspec.structs import replace

from fundamentum.kinds.base import Context
from fundamentum.model.findings import AGAIN, Finding

SENDMAIL = "sendmail"
BRINGING = ("postfix", "exim4-daemon-light", "msmtp-mta", "nullmailer", "dma", "sendmail")
"""Packages that bring such a program, of which a person chooses one."""


def judged_mail(base: Finding, context: Context) -> Finding:
    """The program that ``sendmail_path`` names is there.  Whether it gets mail out is not known here."""
    survey, runtime = context.survey, context.target.runtime
    setting = runtime.settings.get("sendmail_path")
    if setting is None or setting.value is None:
        return replace(base, remedy=f"see {setting.origin}" if setting else "look at SMTP and sendmail_path in php.ini")
    try:
        program = (shlex.split(setting.value) or [""])[0]
    except ValueError:
        return replace(base, found=setting.value, remedy=f"its quotes do not match: see {setting.origin}")
    place = next((place for place in survey.places if place.path == program), None)
    known = next((command for command in survey.commands if command.name == SENDMAIL), None)
    there = place is not None and place.kind == "file"
    if there or (known is not None and known.path == program):
        remark = "whether it gets mail out, a message that is sent tells"
        return replace(base, verdict="met", found=program, origin=setting.origin, remark=remark)
    if known is None:
        return replace(base, remedy=AGAIN)
    if place is None and not program.endswith(f"/{SENDMAIL}"):
        return replace(base, found=program, origin=setting.origin, remedy=f"look whether {program} is there")
    offered = [name for name in BRINGING if context.offers.package(name)]
    which = f"install one of {', '.join(offered)}" if offered else "install a program that sends mail"
    elsewhere = f", or set sendmail_path to {known.path}" if known.path else ""
    actual, origin = f"{program or 'nothing'} is not there", None if setting.origin.built_in else setting.origin
    remedy = f"decide: {which}, and set it up{elsewhere}"
    return replace(base, verdict="unmet", found=actual, origin=origin, remedy=remedy)
