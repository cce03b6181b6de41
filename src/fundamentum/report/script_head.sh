#
#     sh SCRIPT          says what would be done, and changes nothing
#     sh SCRIPT --yes    does it
#
# Safe to run twice: what is done already is left alone.  It stops at the first failure, keeps every file it replaces,
# tests a service's configuration before it restarts it, and says at the end how to go back.
set -eu
umask 022
export DEBIAN_FRONTEND=noninteractive LC_ALL=C
changed=no undo='' act=no family=debian

case ${1-} in
    --yes) act=yes ;;
    '') ;;
    *) printf 'unknown option: %s; give --yes, or nothing to see what would be done\n' "$1" >&2; exit 2 ;;
esac

say() { printf '%s\n' "$*"; }
# How to undo a step: later steps are undone first.
back() { undo="    $*
$undo"; }

[ "$act" = no ] || [ "$(id -u)" -eq 0 ] || { say "this has to be run as root" >&2; exit 1; }

is_installed() { # PACKAGE
    if [ "$family" = debian ]; then
        case $(dpkg-query -W -f '${Status}' -- "$1" 2>/dev/null || :) in
            *' ok installed') return 0 ;;
            *) return 1 ;;
        esac
    fi
    rpm -q -- "$1" >/dev/null 2>&1
}

is_offered() { # PACKAGE
    if [ "$family" = debian ]; then
        apt-cache policy -- "$1" 2>/dev/null | grep -q 'Candidate: [^(]'
    else
        dnf -q list --available -- "$1" >/dev/null 2>&1
    fi
}

need_source() { # SOURCE PACKAGE: a decision that this script does not take
    if is_installed "$2" || is_offered "$2"; then
        say "source $1: configured"
        return 0
    fi
    say "source $1: not configured here, and $2 comes from it"
    [ "$act" = no ] || { say "configure it, refresh the package indexes, and run this again" >&2; exit 1; }
}

switch_stream() { # MODULE STREAM
    if dnf -q module list --enabled "$1" 2>/dev/null | grep -q " $2 .*\[e\]"; then
        say "module $1: stream $2 is on"
        return 0
    fi
    say "module $1: switching to stream $2"
    [ "$act" = yes ] || return 0
    dnf -y module switch-to "$1:$2"
    changed=yes
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
    [ "$act" = yes ] || return 0
    if [ "$family" = debian ]; then
        apt-get install -y --no-install-recommends -- "$@"
        back "apt-get remove $*"
    else
        dnf -y install -- "$@"
        back "dnf remove $*"
    fi
    changed=yes
}

install_again() { # PACKAGE...: put back the files of installed packages
    say "packages: installing again $*"
    [ "$act" = yes ] || return 0
    if [ "$family" = debian ]; then
        apt-get install -y --reinstall --no-install-recommends -- "$@"
    else
        dnf -y reinstall -- "$@"
    fi
    changed=yes
}

switch_on() { # BRANCH SAPI NAME
    if phpquery -q -v "$1" -s "$2" -m "$3" >/dev/null 2>&1; then
        say "extension $3: on for $1/$2"
        return 0
    fi
    say "extension $3: switching on for $1/$2"
    [ "$act" = yes ] || return 0
    phpenmod -v "$1" -s "$2" "$3"
    back "phpdismod -v $1 -s $2 $3"
    changed=yes
}

write_file() { # PATH, the content on standard input
    # Compared elsewhere: a file that comes and goes here would make the directory look changed.
    new=$(mktemp)
    cat >"$new"
    if [ -f "$1" ] && cmp -s "$new" "$1"; then
        rm -f "$new"
        say "file $1: as wanted"
        return 0
    fi
    if [ "$act" = no ]; then
        say "file $1: writing"
        rm -f "$new"
        return 0
    fi
    if [ -e "$1" ]; then
        kept="$1.before-$(date +%Y%m%dT%H%M%S)"
        cp -p "$1" "$kept"
        say "file $1: replacing (kept as $kept)"
        back "mv '$kept' '$1'"
    else
        say "file $1: writing"
        back "rm '$1'"
    fi
    cp "$new" "$1.new"
    chmod 644 "$1.new"
    mv -f "$1.new" "$1"
    rm -f "$new"
    changed=yes
}

change_file() { # PATH, the difference on standard input
    new=$(mktemp)
    cat >"$new"
    command -v patch >/dev/null 2>&1 || install_packages patch
    if patch --binary -R -s -f --dry-run "$1" <"$new" >/dev/null 2>&1; then
        say "file $1: as wanted"
    elif [ "$act" = no ]; then
        say "file $1: changing"
    else
        kept="$1.before-$(date +%Y%m%dT%H%M%S)"
        cp -p "$1" "$kept"
        say "file $1: changing (kept as $kept)"
        patch --binary -s -f "$1" <"$new"
        back "mv '$kept' '$1'"
        changed=yes
    fi
    rm -f "$new"
}

make_directory() { # PATH MODE OWNER GROUP
    if [ -d "$1" ]; then
        say "directory $1: there"
        return 0
    fi
    say "directory $1: making, for $3"
    [ "$act" = yes ] || return 0
    if [ -n "$4" ]; then install -d -m "$2" -o "$3" -g "$4" -- "$1"; else install -d -m "$2" -o "$3" -- "$1"; fi
    back "rmdir '$1'"
    changed=yes
}

give() { # PATH OWNER GROUP: an empty word leaves that as it is
    owner=$(stat -c '%U' -- "$1") group=$(stat -c '%G' -- "$1")
    if [ "${2:-$owner}:${3:-$group}" = "$owner:$group" ]; then
        say "directory $1: belongs to $owner:$group"
        return 0
    fi
    say "directory $1: giving it to ${2:-$owner}:${3:-$group} (now $owner:$group)"
    [ "$act" = yes ] || return 0
    chown "${2:-$owner}:${3:-$group}" -- "$1"
    back "chown $owner:$group '$1'"
    changed=yes
}

set_mode() { # PATH MODE
    mode=$(stat -c '%a' -- "$1")
    if [ "$mode" = "$2" ]; then
        say "directory $1: has mode $mode"
        return 0
    fi
    say "directory $1: mode $2 (now $mode)"
    [ "$act" = yes ] || return 0
    chmod "$2" -- "$1"
    back "chmod $mode '$1'"
    changed=yes
}

grant() { # PATH USER LETTERS
    if getfacl -cp -- "$1" 2>/dev/null | grep -q "^user:$2:$(printf '%s' "$3" | sed 's/^x$/--x/')"; then
        say "directory $1: $2 has $3"
        return 0
    fi
    say "directory $1: $3 for $2"
    [ "$act" = yes ] || return 0
    setfacl -m "u:$2:$3" -- "$1"
    back "setfacl -x u:$2 '$1'"
    changed=yes
}

set_label() { # PATH TYPE
    case $(stat -c '%C' -- "$1") in
        *:"$2":*) say "directory $1: labelled $2"; return 0 ;;
    esac
    say "directory $1: labelling it $2"
    [ "$act" = yes ] || return 0
    semanage fcontext -a -t "$2" "$1(/.*)?" || semanage fcontext -m -t "$2" "$1(/.*)?"
    restorecon -R "$1"
    changed=yes
}

is_older_than_its_files() { # PIDFILE FOLDER...: whether something the process reads has changed since it started
    pidfile=$1
    shift
    [ -f "$pidfile" ] && [ -n "$(find "$@" -cnewer "$pidfile" -print 2>/dev/null | head -n 1)" ]
}

restart_service() { verb=restart; take_up "$@"; } # SERVICE PIDFILE COMMAND...: test the configuration with COMMAND first
reload_service() { verb=reload; take_up "$@"; }   # the same, where reading the configuration again is enough

take_up() {
    service=$1 pidfile=$2
    shift 2
    if [ "$changed" = no ] && [ "$act" = yes ] &&
        ! is_older_than_its_files "$pidfile" /etc/php /usr/lib/php /etc/php.d /etc/php.ini /etc/php-fpm.d /usr/lib64/php \
            /etc/nginx /etc/apache2 /etc/httpd; then
        say "service $service: nothing changed, left as it is"
        return 0
    fi
    if [ "$act" = no ]; then
        say "service $service: testing its configuration, then $verb, if anything changes"
        return 0
    fi
    "$@"
    if [ -d /run/systemd/system ]; then
        systemctl "$verb" "$service"
    elif service "$service" status >/dev/null 2>&1; then
        service "$service" "$verb"
    else
        say "service $service: not running here; it will start with the new configuration"
        return 0
    fi
    say "service $service: ${verb}ed"
    undo="$undo    and then $verb $service
"
}

finish() {
    if [ "$act" = no ]; then
        say "nothing was changed; run this with --yes to do it"
    elif [ -n "$undo" ]; then
        say "to go back:"
        printf '%s' "$undo"
    fi
}
