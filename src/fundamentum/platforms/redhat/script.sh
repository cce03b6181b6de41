is_installed() { # PACKAGE
    rpm -q -- "$1" >/dev/null 2>&1
}

is_offered() { # PACKAGE: or here already, which is not listed
    dnf -q list --available -- "$1" >/dev/null 2>&1 || is_installed "$1"
}

packages_now() { # the names of all that is installed, in order
    rpm -qa --qf '%{NAME}\n' | sort -u
}

packages_ready() { # whether packages can be installed at all: dnf itself waits for another one
    :
}

put_packages() { # PACKAGE...
    back "gone=\$(rpm -qa --qf '%{NAME}\\n' | sort -u | comm -13 $keep/packages -) && { [ -z \"\$gone\" ] || dnf -y remove \$gone; }"
    dnf -y install -- "$@"
}

put_again() { # PACKAGE...
    dnf -y reinstall -- "$@"
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
