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
    unconfigured=$source
    [ "$act" = no ] || { say "configure it, refresh the package indexes, and run this again" >&2; exit 1; }
}

let_go() { # PACKAGE...: another decision that it does not take
    for package; do
        shift
        ! is_installed "$package" || set -- "$@" "$package"
    done
    [ $# -gt 0 ] || return 0
    say "packages: these have to go first, to make room for others: $*"
    [ "$act" = no ] || { say "take them away yourself, and run this again" >&2; exit 1; }
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
    ahead '*'
    [ -f "$keep/packages" ] || packages_now >"$keep/packages"
    put_packages "$@"
    altered
}

install_again() { # PACKAGE...: put back the files of installed packages
    say "packages: installing again $*"
    packages_ready || exit 1
    [ "$act" = yes ] || return 0
    ahead '*'
    put_again "$@"
    altered
}
