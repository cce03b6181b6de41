# Safe to run twice: what is done already is left alone, and a file that is replaced is kept beside the new one.
set -eu
umask 022
export DEBIAN_FRONTEND=noninteractive LC_ALL=C
changed=no

say() { printf '%s\n' "$*"; }

[ "$(id -u)" -eq 0 ] || { say "this has to be run as root" >&2; exit 1; }

is_installed() { # PACKAGE
    case $(dpkg-query -W -f '${Status}' -- "$1" 2>/dev/null || :) in
        *' ok installed') return 0 ;;
        *) return 1 ;;
    esac
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
    apt-get install -y --no-install-recommends -- "$@"
    changed=yes
}

install_again() { # PACKAGE...: put back the files of installed packages
    say "packages: installing again $*"
    apt-get install -y --reinstall --no-install-recommends -- "$@"
    changed=yes
}

switch_on() { # BRANCH SAPI NAME
    if phpquery -q -v "$1" -s "$2" -m "$3" >/dev/null 2>&1; then
        say "extension $3: on for $1/$2"
        return 0
    fi
    say "extension $3: switching on for $1/$2"
    phpenmod -v "$1" -s "$2" "$3"
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
    if [ -e "$1" ]; then
        kept="$1.before-$(date +%Y%m%dT%H%M%S)"
        cp -p "$1" "$kept"
        say "file $1: replacing (kept as $kept)"
    else
        say "file $1: writing (to go back, remove it)"
    fi
    cp "$new" "$1.new"
    chmod 644 "$1.new"
    mv -f "$1.new" "$1"
    rm -f "$new"
    changed=yes
}

is_older_than_its_files() { # PIDFILE: whether something the process reads has changed since it started
    [ -f "$1" ] && [ -n "$(find /etc/php /usr/lib/php -cnewer "$1" -print 2>/dev/null | head -n 1)" ]
}

restart_service() { # SERVICE PIDFILE COMMAND...: test the configuration with COMMAND, then restart
    service=$1 pidfile=$2
    shift 2
    if [ "$changed" = no ] && ! is_older_than_its_files "$pidfile"; then
        say "service $service: nothing changed, left as it is"
        return 0
    fi
    "$@"
    if [ -d /run/systemd/system ]; then
        systemctl restart "$service"
    elif service "$service" status >/dev/null 2>&1; then
        service "$service" restart
    else
        say "service $service: not running here; it will start with the new configuration"
        return 0
    fi
    say "service $service: restarted"
}
