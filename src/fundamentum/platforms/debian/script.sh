export DEBIAN_FRONTEND=noninteractive

is_installed() { # PACKAGE
    case $(dpkg-query -W -f '${Status}' -- "$1" 2>/dev/null || :) in
        *' ok installed') return 0 ;;
        *) return 1 ;;
    esac
}

is_offered() { # PACKAGE VERSION: in that version or a later one
    candidate=$(apt-cache policy -- "$1" 2>/dev/null | sed -n 's/^ *Candidate: //p')
    [ -n "$candidate" ] && [ "$candidate" != '(none)' ] &&
        { [ -z "$2" ] || dpkg --compare-versions "$candidate" ge "$2"; }
}

put_packages() { # PACKAGE...
    apt-get install -y --no-install-recommends -- "$@"
    back "apt-get remove $*"
}

put_again() { # PACKAGE...
    apt-get install -y --reinstall --no-install-recommends -- "$@"
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
