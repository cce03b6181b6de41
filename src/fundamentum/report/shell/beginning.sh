#
#     sh SCRIPT           says what would be done, and changes nothing
#     sh SCRIPT --yes     does it
#     sh SCRIPT --yes --more-packages    does it although more packages would be installed or upgraded than planned
#     sh SCRIPT --undo    takes back what was done last, by this script or another of its kind
#
# Safe to run twice: what is done already is left alone.  It stops at the first failure, keeps every file it replaces,
# tests a service's configuration before it restarts it, and writes down the way back before each step.
set -eu
umask 022
export LC_ALL=C
changed=no act=no finished=no unconfigured='' more='' unproved=no taken_up=no
# Copies of what is replaced, and the way back; never beside it, where a service would read them.
backups=/var/backups/fundamentum keep=
lock=/run/fundamentum.lock work='' beside='' locked='' asking=''
trap ended EXIT
trap 'exit 130' HUP INT TERM

say() { printf '%s\n' "$*"; }
quoted() { printf "'%s'" "$(printf '%s' "$1" | sed "s/'/'\\\\''/g")"; }

ended() { # at the end, however it comes
    rm -rf ${work:+"$work"} ${beside:+"$beside"} ${locked:+"$locked"} ${asking:+"$asking"}
    if [ "$finished" = no ] && [ -n "$keep" ] && [ -f "$keep/undo.sh" ]; then
        say "stopped before the end; to go back: sh $keep/undo.sh" >&2
    fi
}
