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
    altered
}

make_directory_above() { # PATH: a directory on the way, root's own
    [ -d "${1%/*}/" ] || make_directory_above "${1%/*}"
    back "[ ! -d $(quoted "$1") ] || rmdir --ignore-fail-on-non-empty -- $(quoted "$1")"
    (
        enter "$(dirname "$1")" && mkdir -m 755 -- "${1##*/}"
    ) || exit 1
}

make_file() { # PATH MODE OWNER GROUP: an empty one, which nobody else can have put there
    if [ -e "$1" ] || [ -L "$1" ]; then
        say "file $1: there"
        return 0
    fi
    say "file $1: making it empty, for $3"
    [ "$act" = yes ] || return 0
    [ -d "${1%/*}/" ] || make_directory_above "${1%/*}"
    back "[ -s $(quoted "$1") ] || rm -f -- $(quoted "$1")"
    (
        enter "$(dirname "$1")" && set -C && umask "$(printf '%o' $((0777 & ~0$2)))" && : >"./${1##*/}" &&
            chown -h "$3${4:+:$4}" "./${1##*/}"
    ) || exit 1
    altered
}

give() { # PATH OWNER GROUP: an empty word leaves that as it is
    what=directory
    [ ! -f "$1" ] || [ -L "$1" ] || what=file
    [ "$what" = file ] || (enter "$1") || exit 1
    owner=$(stat -c '%U' -- "$1") group=$(stat -c '%G' -- "$1")
    if [ "${2:-$owner}:${3:-$group}" = "$owner:$group" ]; then
        say "$what $1: belongs to $owner:$group"
        return 0
    fi
    say "$what $1: giving it to ${2:-$owner}:${3:-$group} (now $owner:$group)"
    [ "$act" = yes ] || return 0
    ahead "$1"
    back "chown -h $owner:$group $(quoted "$1")"
    if [ "$what" = file ]; then # no link that somebody puts in its place leads further
        (enter "$(dirname "$1")" && chown -h "${2:-$owner}:${3:-$group}" "./${1##*/}") || exit 1
    else
        (enter "$1" && chown "${2:-$owner}:${3:-$group}" .) || exit 1
    fi
    altered
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
    ahead "$1"
    back "chmod $mode $(quoted "$1")"
    (enter "$1" && chmod "$2" .) || exit 1
    altered
}

set_mode_of_file() { # PATH MODE: with the rights of its owner alone, so that no link that he puts there leads further
    mode=$(stat -c '%a' -- "$1")
    if [ "$mode" = "$2" ]; then
        say "file $1: has mode $mode"
        return 0
    fi
    say "file $1: mode $2 (now $mode)"
    [ "$act" = yes ] || return 0
    ahead "$1"
    back "chmod $mode $(quoted "$1")"
    setpriv --reuid "$(stat -c '%u' -- "$1")" --regid "$(stat -c '%g' -- "$1")" --clear-groups -- chmod "$2" -- "$1"
    altered
}

grant() { # PATH USER LETTERS
    (enter "$1") || exit 1
    if getfacl -cp -- "$1" 2>/dev/null | grep -q "^user:$2:$(printf '%s' "$3" | sed 's/^x$/--x/')"; then
        say "directory $1: $2 has $3"
        return 0
    fi
    say "directory $1: $3 for $2"
    [ "$act" = yes ] || return 0
    ahead "$1"
    back "setfacl -x u:$2 $(quoted "$1")"
    (enter "$1" && setfacl -m "u:$2:$3" .) || exit 1
    altered
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
    altered
}
