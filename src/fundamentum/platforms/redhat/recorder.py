"""What a recorder asks of the server's own rpm: its database may be in a format that only rpm reads."""

import shlex

from fundamentum.platforms.redhat import rpm

_OWNED = f"""    tr '\\t\\v\\f' '\\n' <"$stage/answer-{rpm.FILES.name}" | grep '^/' >>"$stage/owned\""""
_OWNERS = """    for name in $commands; do
        for folder in /usr/local/bin /usr/bin /bin /usr/local/sbin /usr/sbin /sbin; do
            if [ -x "$folder/$name" ]; then readlink -f -- "$folder/$name"; break; fi
        done
    done | tr '\\n' '\\000' | xargs -0 %s >"$stage/answer-rpm-owners" 2>/dev/null"""


def answers() -> str:
    """Shell commands whose output becomes a part of the recording."""
    lines = [
        f'    {shlex.join(question.command)} >"$stage/answer-{question.name}" 2>/dev/null'
        for question in (rpm.PACKAGES, rpm.FILES)
    ]
    return "\n".join(
        ("if command -v rpm >/dev/null 2>&1; then", *lines, _OWNED, _OWNERS % shlex.join(rpm.OWNERS), "fi")
    )
