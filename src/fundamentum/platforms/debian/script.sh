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

switch_web_server() { # OFF ON SNIPPETS: Apache's modules and parts of its configuration, each a list of words
    off='' on='' snippets=''
    for name in $1; do ! a2query -q -m "$name" >/dev/null 2>&1 || off="$off $name"; done
    for name in $2; do a2query -q -m "$name" >/dev/null 2>&1 || on="$on $name"; done
    for name in $3; do a2query -q -c "$name" >/dev/null 2>&1 || snippets="$snippets $name"; done
    if [ -z "$off$on$snippets" ]; then
        say "web server: on already: $2 $3"
        return 0
    fi
    say "web server: switching${off:+ off$off}${on:+ on$on}${snippets:+ on$snippets}"
    [ "$act" = yes ] || return 0
    for name in $off; do a2dismod -q -f "$name"; back "a2enmod $name"; done
    for name in $on; do a2enmod -q "$name"; back "a2dismod $name"; done
    for name in $snippets; do a2enconf -q "$name"; back "a2disconf $name"; done
    changed=yes
}
