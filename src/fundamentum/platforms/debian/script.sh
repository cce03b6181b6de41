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

packages_now() { # the names of all that is installed, in order
    dpkg-query -W -f '${db:Status-Abbrev}${Package}\n' | sed -n 's/^ii *//p' | sort
}

packages_ready() { # whether packages can be installed at all
    if [ -n "$(ls -A /var/lib/dpkg/updates 2>/dev/null)" ] || [ -n "$(dpkg --audit 2>/dev/null)" ]; then
        say "packages: dpkg was interrupted; run dpkg --configure -a first, nothing was changed" >&2
        return 1
    fi
}

apt_get() { # VERB PACKAGE...: asks nothing, waits for another apt, keeps configuration files as they are
    apt-get -y -o DPkg::Lock::Timeout=300 -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold "$@"
}

put_packages() { # PACKAGE...
    back "gone=\$(dpkg-query -W -f '\${db:Status-Abbrev}\${Package}\\n' | sed -n 's/^ii *//p' | sort | comm -13 $keep/packages -) && { [ -z \"\$gone\" ] || apt-get -y remove \$gone; }"
    apt_get install --no-install-recommends -- "$@"
}

put_again() { # PACKAGE...
    apt_get install --reinstall --no-install-recommends -- "$@"
}

switch_on() { # BRANCH SAPI NAME
    if phpquery -q -v "$1" -s "$2" -m "$3" >/dev/null 2>&1; then
        say "extension $3: on for $1/$2"
        return 0
    fi
    say "extension $3: switching on for $1/$2"
    [ "$act" = yes ] || return 0
    back "phpdismod -v $1 -s $2 $3"
    phpenmod -v "$1" -s "$2" "$3"
    changed=yes
}
