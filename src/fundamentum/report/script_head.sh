#
#     sh SCRIPT           says what would be done, and changes nothing
#     sh SCRIPT --yes     does it
#     sh SCRIPT --undo    takes back what was done last, by this script or another of its kind
#
# Safe to run twice: what is done already is left alone.  It stops at the first failure, keeps every file it replaces,
# tests a service's configuration before it restarts it, and writes down the way back before each step.
set -eu
umask 022
export LC_ALL=C
changed=no act=no finished=no
# Copies of what is replaced, and the way back; never beside it, where a service would read them.
backups=/var/backups/fundamentum keep=
lock=/run/fundamentum.lock work='' beside='' locked=''
trap ended EXIT
trap 'exit 130' HUP INT TERM

case ${1-} in
    --yes) act=yes ;;
    --undo) act=undo ;;
    '') ;;
    *) printf 'unknown option: %s; give --yes or --undo, or nothing to see what would be done\n' "$1" >&2; exit 2 ;;
esac

say() { printf '%s\n' "$*"; }
quoted() { printf "'%s'" "$(printf '%s' "$1" | sed "s/'/'\\\\''/g")"; }

ended() { # at the end, however it comes
    rm -rf ${work:+"$work"} ${beside:+"$beside"} ${locked:+"$locked"}
    if [ "$finished" = no ] && [ -n "$keep" ] && [ -f "$keep/undo.sh" ]; then
        say "stopped before the end; to go back: sh $keep/undo.sh" >&2
    fi
}

journal() { # a directory of this run, which only root may see
    [ -z "$keep" ] || return 0
    mkdir -p "$backups"
    if [ -L "$backups" ] || [ "$(stat -c '%u' "$backups")" -ne "$(id -u)" ]; then
        say "$backups is not root's own directory: nothing was changed" >&2
        exit 1
    fi
    chmod 700 "$backups"
    keep=$(mktemp -d "$backups/$(date +%Y%m%dT%H%M%S).XXXXXX")
    : >"$keep/steps"
    : >"$keep/services"
}

# The way back, on disk before a step is done: a command that does no harm where the step was never done.
back() { # COMMAND...
    journal
    { printf '%s\n' "$*"; cat "$keep/steps"; } >"$keep/steps.new"
    mv -f "$keep/steps.new" "$keep/steps"
    way_back
}

back_by() { # restart|stop SERVICE, once all files are as they were
    journal
    grep -qxF "$1 $2" "$keep/services" || printf '%s\n' "$1 $2" >>"$keep/services"
    way_back
}

# shellcheck disable=SC2016  # for undo.sh
way_back() { # undo.sh, whole at every moment
    {
        printf '%s\n' '#!/bin/sh' '# Takes back what was done, the last step first.' 'failed=0' \
            'take_back() { printf "%s\n" "$1"; sh -c "$1" || { printf "failed: %s\n" "$1" >&2; failed=1; }; }' \
            '[ "$(id -u)" -eq 0 ] || { echo "this has to be run as root" >&2; exit 1; }'
        while IFS= read -r taken; do printf 'take_back %s\n' "$(quoted "$taken")"; done <"$keep/steps"
        while read -r taken by; do
            printf 'take_back %s\n' "$(quoted "if [ -d /run/systemd/system ]; then systemctl $taken $by; elif service $by status >/dev/null 2>&1; then service $by $taken; fi")"
        done <"$keep/services"
        printf '%s\n' '[ "$failed" -ne 0 ] || mv -f "$0" "${0%/*}/undone.sh"' 'exit "$failed"'
    } >"$keep/undo.new"
    mv -f "$keep/undo.new" "$keep/undo.sh"
}

[ "$act" = no ] || [ "$(id -u)" -eq 0 ] || { say "this has to be run as root" >&2; exit 1; }

if [ "$act" = undo ]; then
    newest=$(find "$backups" -mindepth 2 -maxdepth 2 -name undo.sh 2>/dev/null | sort | tail -n 1)
    [ -n "$newest" ] || { say "there is nothing to take back in $backups" >&2; exit 1; }
    say "taking back: $newest"
    sh "$newest"
    finished=yes
    exit 0
fi

if [ "$act" = yes ]; then # one plan at a time
    if ! mkdir "$lock" 2>/dev/null; then
        if [ -f "$lock/pid" ] && kill -0 "$(cat "$lock/pid")" 2>/dev/null; then
            say "another plan is being carried out here, by process $(cat "$lock/pid"): nothing was changed" >&2
            exit 1
        fi
        rm -rf "$lock"
        mkdir "$lock"
    fi
    locked=$lock
    printf '%s\n' "$$" >"$lock/pid"
fi

need_source() { # SOURCE PACKAGE VERSION...: a decision that this script does not take
    source=$1
    shift
    lacking=
    while [ $# -gt 0 ]; do
        is_offered "$1" "$2" || lacking="$lacking $1"
        shift 2
    done
    if [ -z "$lacking" ]; then
        say "source $source: configured"
        return 0
    fi
    say "source $source: not configured here, and this comes from it:$lacking"
    [ "$act" = no ] || { say "configure it, refresh the package indexes, and run this again" >&2; exit 1; }
}

install_packages() { # PACKAGE...: install those that are not there yet
    for package; do
        shift
        is_installed "$package" || set -- "$@" "$package"
    done
    if [ $# -eq 0 ]; then
        say "packages: all installed"
        return 0
    fi
    say "packages: installing $*"
    packages_ready || exit 1
    [ "$act" = yes ] || return 0
    journal
    [ -f "$keep/packages" ] || packages_now >"$keep/packages"
    put_packages "$@"
    changed=yes
}

install_again() { # PACKAGE...: put back the files of installed packages
    say "packages: installing again $*"
    packages_ready || exit 1
    [ "$act" = yes ] || return 0
    put_again "$@"
    changed=yes
}

keep() { # PATH: a copy where no service reads it, which only root may see; its path is left in "kept"
    journal
    kept=$keep/files$1
    (umask 077 && mkdir -p "${kept%/*}")
    cp -p -- "$1" "$kept"
}

scratch() { [ -n "$work" ] || work=$(mktemp -d); } # a directory for what is compared, gone at the end

put() { # NEW PATH: what is in NEW takes the place of PATH at once; a hidden name beside it is read by no service
    if [ -L "$2" ]; then
        say "file $2: is a link now, which is not to be changed; plan again" >&2
        exit 1
    fi
    of=$(stat -c '%u %g' -- "${2%/*}")
    if [ "${of% *}" -eq 0 ]; then
        beside=$(mktemp "${2%/*}/.fundamentum.XXXXXX")
        if [ -e "$2" ]; then cp -p -- "$2" "$beside"; else chmod 644 "$beside"; fi
        cat <"$1" >"$beside"
        mv -f -- "$beside" "$2"
        beside=
    else
        # In somebody else's directory with his rights alone: no link that he puts there meanwhile leads any further.
        # shellcheck disable=SC2016  # for the other shell
        setpriv --reuid "${of% *}" --regid "${of#* }" --clear-groups -- sh -c '
            new=$(mktemp "${1%/*}/.fundamentum.XXXXXX") && cp -p -- "$1" "$new" && cat >"$new" && mv -f -- "$new" "$1"
        ' sh "$2" <"$1"
    fi
    changed=yes
}

write_file() { # PATH LINE...
    path=$1
    shift
    # Compared elsewhere: a file that comes and goes here would make the directory look changed.
    scratch
    new=$work/new
    printf '%s\n' "$@" >"$new"
    if [ -f "$path" ] && cmp -s "$new" "$path"; then
        say "file $path: as wanted"
    elif [ "$act" = no ]; then
        say "file $path: writing"
    elif [ -e "$path" ]; then
        keep "$path"
        say "file $path: replacing (kept as $kept)"
        back "cp -p $(quoted "$kept") $(quoted "$path")"
        put "$new" "$path"
    else
        say "file $path: writing"
        back "rm -f -- $(quoted "$path")"
        put "$new" "$path"
    fi
}

# At their lines, or nowhere: with fewer lines around it, patch would change another place that looks the same.
at_lines() { # DIFF PATH -|+: whether what a diff takes away, or what it brings, stands at the lines that it names
    awk -v sign="$3" '
%AT_LINES%
' "$1" "$2"
}

fits() { # PATH DIFF NEW: NEW is the file with the change
    at_lines "$2" "$1" - && patch --binary -s -f -r - -o "$3" "$1" <"$2" >/dev/null 2>&1
}

change_file() { # PATH LINE...: the lines of a unified diff
    path=$1
    shift
    scratch
    diff=$work/diff new=$work/new
    printf '%s\n' "$@" >"$diff"
    command -v patch >/dev/null 2>&1 || install_packages patch
    if ! command -v patch >/dev/null 2>&1; then
        say "file $path: changing, with patch"
    elif at_lines "$diff" "$path" +; then
        say "file $path: as wanted"
    elif ! fits "$path" "$diff" "$new"; then
        say "file $path: not as it was when this was planned; plan again" >&2
        exit 1
    elif [ "$act" = no ]; then
        say "file $path: changing"
    else
        keep "$path"
        say "file $path: changing (kept as $kept)"
        back "cp -p $(quoted "$kept") $(quoted "$path")"
        put "$new" "$path"
    fi
}

# A directory is changed from within it, so that no link that somebody puts on the way meanwhile leads elsewhere.
enter() { # PATH, as it was surveyed: no part of it a link
    if ! cd -P -- "$1" 2>/dev/null; then
        say "directory $1: cannot be entered; plan again" >&2
        exit 1
    fi
    if [ "$(pwd -P)" != "$1" ]; then
        say "directory $1: now leads to $(pwd -P), which is not to be changed; plan again" >&2
        exit 1
    fi
}

make_directory() { # PATH MODE OWNER GROUP
    if [ -d "$1" ] && [ ! -L "$1" ]; then
        say "directory $1: there"
        return 0
    fi
    if [ -L "$1" ] || [ "$(realpath -m -- "$1")" != "$1" ]; then
        say "directory $1: now leads to $(realpath -m -- "$1"), which is not to be changed; plan again" >&2
        exit 1
    fi
    say "directory $1: making, for $3"
    [ "$act" = yes ] || return 0
    [ -d "${1%/*}/" ] || make_directory_above "${1%/*}"
    back "[ ! -d $(quoted "$1") ] || rmdir --ignore-fail-on-non-empty -- $(quoted "$1")"
    (
        enter "$(dirname "$1")" && mkdir -m 700 -- "${1##*/}" && enter "$1" && chown "$3${4:+:$4}" . && chmod "$2" .
    ) || exit 1
    changed=yes
}

make_directory_above() { # PATH: a directory on the way, root's own
    [ -d "${1%/*}/" ] || make_directory_above "${1%/*}"
    back "[ ! -d $(quoted "$1") ] || rmdir --ignore-fail-on-non-empty -- $(quoted "$1")"
    (
        enter "$(dirname "$1")" && mkdir -m 755 -- "${1##*/}"
    ) || exit 1
}

give() { # PATH OWNER GROUP: an empty word leaves that as it is
    (enter "$1") || exit 1
    owner=$(stat -c '%U' -- "$1") group=$(stat -c '%G' -- "$1")
    if [ "${2:-$owner}:${3:-$group}" = "$owner:$group" ]; then
        say "directory $1: belongs to $owner:$group"
        return 0
    fi
    say "directory $1: giving it to ${2:-$owner}:${3:-$group} (now $owner:$group)"
    [ "$act" = yes ] || return 0
    back "chown $owner:$group $(quoted "$1")"
    (enter "$1" && chown "${2:-$owner}:${3:-$group}" .) || exit 1
    changed=yes
}

set_mode() { # PATH MODE
    if [ -f "$1" ] && [ ! -L "$1" ]; then
        set_mode_of_file "$@"
        return
    fi
    (enter "$1") || exit 1
    mode=$(stat -c '%a' -- "$1")
    if [ "$mode" = "$2" ]; then
        say "directory $1: has mode $mode"
        return 0
    fi
    say "directory $1: mode $2 (now $mode)"
    [ "$act" = yes ] || return 0
    back "chmod $mode $(quoted "$1")"
    (enter "$1" && chmod "$2" .) || exit 1
    changed=yes
}

set_mode_of_file() { # PATH MODE: with the rights of its owner alone, so that no link that he puts there leads further
    mode=$(stat -c '%a' -- "$1")
    if [ "$mode" = "$2" ]; then
        say "file $1: has mode $mode"
        return 0
    fi
    say "file $1: mode $2 (now $mode)"
    [ "$act" = yes ] || return 0
    back "chmod $mode $(quoted "$1")"
    setpriv --reuid "$(stat -c '%u' -- "$1")" --regid "$(stat -c '%g' -- "$1")" --clear-groups -- chmod "$2" -- "$1"
    changed=yes
}

grant() { # PATH USER LETTERS
    (enter "$1") || exit 1
    if getfacl -cp -- "$1" 2>/dev/null | grep -q "^user:$2:$(printf '%s' "$3" | sed 's/^x$/--x/')"; then
        say "directory $1: $2 has $3"
        return 0
    fi
    say "directory $1: $3 for $2"
    [ "$act" = yes ] || return 0
    back "setfacl -x u:$2 $(quoted "$1")"
    (enter "$1" && setfacl -m "u:$2:$3" .) || exit 1
    changed=yes
}

set_label() { # PATH TYPE
    case $(stat -c '%C' -- "$1") in
        *:"$2":*) say "directory $1: labelled $2"; return 0 ;;
    esac
    say "directory $1: labelling it $2"
    [ "$act" = yes ] || return 0
    (enter "$1") || exit 1
    semanage fcontext -a -t "$2" "$1(/.*)?" || semanage fcontext -m -t "$2" "$1(/.*)?"
    restorecon -R "$1"
    changed=yes
}

is_older_than_its_files() { # PIDFILE FOLDER...: whether something the process reads has changed since it started
    pidfile=$1
    shift
    [ -f "$pidfile" ] && [ -n "$(find "$@" -cnewer "$pidfile" -print 2>/dev/null | head -n 1)" ]
}

switch_part() { # NAME QUERY COMMAND BACK: a part of a web server, unless QUERY tells that it is so already
    if sh -c "$2" >/dev/null 2>&1; then
        say "web server: $1 is as wanted"
        return 0
    fi
    say "web server: $3"
    [ "$act" = yes ] || return 0
    back "$4"
    sh -c "$3"
    changed=yes
}

restart_service() { verb=restart; take_up "$@"; } # SERVICE PIDFILE COMMAND...: test the configuration with COMMAND first
reload_service() { verb=reload; take_up "$@"; }   # the same, where reading the configuration again is enough

start_service() { # SERVICE PIDFILE COMMAND...: one that does not run; with its configuration tested first
    service=$1 pidfile=$2
    shift 2
    if [ -f "$pidfile" ] && kill -0 "$(cat "$pidfile")" 2>/dev/null; then
        say "service $service: runs"
        return 0
    fi
    say "service $service: starting it"
    [ "$act" = yes ] || return 0
    "$@"
    back_by stop "$service"
    if [ -d /run/systemd/system ]; then systemctl start "$service"; else service "$service" start; fi
}

take_up() {
    service=$1 pidfile=$2
    shift 2
    if [ "$changed" = no ] && [ "$act" = yes ] &&
        ! is_older_than_its_files "$pidfile" %READ_BY_SERVICES%; then
        say "service $service: nothing changed, left as it is"
        return 0
    fi
    if [ "$act" = no ]; then
        say "service $service: testing its configuration, then $verb, if anything changes"
        return 0
    fi
    "$@"
    back_by "$verb" "$service"
    if [ -d /run/systemd/system ]; then
        systemctl "$verb" "$service"
    elif service "$service" status >/dev/null 2>&1; then
        service "$service" "$verb"
    else
        say "service $service: not running here; it will start with the new configuration"
        return 0
    fi
    say "service $service: ${verb}ed"
}

finish() {
    finished=yes
    if [ "$act" = no ]; then
        say "nothing was changed; run this with --yes to do it"
    elif [ -n "$keep" ]; then
        say "to go back: sh $keep/undo.sh"
    fi
}
