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

packages_now() { # all that is installed, each with its version
    dpkg-query -W -f '${db:Status-Abbrev}${Package} ${Version}\n' | sed -n 's/^ii *//p'
}

torn_packages() { # those that were cut off while they were unpacked: they have to be put there again
    dpkg-query -W -f '${db:Status-Eflag} ${Package}\n' | sed -n 's/^reinstreq //p'
}

packages_ready() { # whether packages can be installed at all
    if [ -n "$(ls -A /var/lib/dpkg/updates 2>/dev/null)" ] || [ -n "$(dpkg --audit 2>/dev/null)" ]; then
        torn=$(torn_packages | tr '\n' ' ')
        say "packages: dpkg was interrupted; nothing was changed; run ${torn:+apt-get install --reinstall ${torn}and }dpkg --configure -a first, and apt-get -f install if that is not enough" >&2
        return 1
    fi
}

apt_get() { # VERB PACKAGE...: asks nothing, waits for another apt, keeps configuration files as they are
    apt-get -y -o DPkg::Lock::Timeout=300 -o Dpkg::Options::=--force-confdef -o Dpkg::Options::=--force-confold "$@"
}

would_change() { # PACKAGE...: "install NAME" and "remove NAME", a line each, as apt-get itself says beforehand
    if ! apt-get -s -y install --no-install-recommends -- "$@" >"$work/apt"; then
        grep -A 2 '^The following held' "$work/apt" >&2 || :
        return 1
    fi
    sed -n 's/^Inst \([^ ]*\).*/install \1/p; s/^Remv \([^ ]*\).*/remove \1/p' "$work/apt"
}

packages_back() { # the way back, beside "packages"
    cat >"$keep/packages-back.sh" <<'SH'
# Takes the packages back to those that "packages" beside this names.
cd "$(dirname "$0")" || exit 1
for torn in $(dpkg-query -W -f '${db:Status-Eflag} ${Package}\n' | sed -n 's/^reinstreq //p'); do # cut off while it was unpacked
    if grep -q "^$torn " packages; then
        apt-get -y --reinstall install "$torn" || exit 1
    else
        dpkg --force-remove-reinstreq --force-depends --remove "$torn" || exit 1
    fi
done
[ -z "$(dpkg --audit)" ] || dpkg --configure -a || apt-get -y -f install || exit 1
dpkg-query -W -f '${db:Status-Abbrev}${Package} ${Version}\n' | sed -n 's/^ii *//p' >packages-now
new=$(awk 'NR == FNR { had[$1] = 1; next } !($1 in had) { print $1 }' packages packages-now)
old=$(awk 'NR == FNR { had[$1] = $2; next } ($1 in had) && had[$1] != $2 { print $1 "=" had[$1] }' packages packages-now)
[ -z "$new" ] || apt-get -y remove $new || exit 1
if [ -n "$old" ] && ! apt-get -y --allow-downgrades install $old; then
    printf 'stays as it is now, for want of its older version: %s\n' $old
fi
SH
    back "sh $keep/packages-back.sh"
}

put_packages() { # PACKAGE...
    packages_back
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
    ahead '*'
    back "phpdismod -v $1 -s $2 $3"
    phpenmod -v "$1" -s "$2" "$3"
    altered
}

request() { # fastcgi WHERE NAME=VALUE... | http HOST:PORT NAME PATH: what is answered; fails where nobody waits
    # shellcheck disable=SC2016  # for perl
    perl -e '
        use strict; use IO::Socket::INET; use IO::Socket::UNIX;
        my ($how, $where, @rest) = @ARGV;
        $SIG{ALRM} = sub { exit 0 }; alarm 30;
        my $to = $where =~ m{^/} ? IO::Socket::UNIX->new(Peer => $where) : IO::Socket::INET->new(PeerAddr => $where);
        exit 1 unless $to;
        my ($bytes, $piece) = (0, "");
        if ($how eq "http") {
            print $to "GET $rest[1] HTTP/1.0\r\nHost: $rest[0]\r\nConnection: close\r\n\r\n"; $to->flush;
            while ($bytes < 1e6 && read $to, $piece, 65536) { $bytes += length $piece; print $piece }
            exit 0;
        }
        sub counted { my $n = length $_[0]; $n < 128 ? chr $n : pack "N", $n | 0x80000000 }
        sub record { pack("CCnnCx", 1, $_[0], 1, length $_[1], 0) . $_[1] }
        my ($pairs, %values) = "";
        for (@rest) { my ($name, $value) = split /=/, $_, 2; push @{$values{$name}}, $value }
        for my $name (keys %values) {
            my $value = join "\n", @{$values{$name}};
            $pairs .= counted($name) . counted($value) . $name . $value;
        }
        print $to record(1, pack "nCx5", 1, 0), record(4, $pairs), record(4, ""), record(5, ""); $to->flush;
        while ($bytes < 1e6 && 8 == read $to, $piece, 8) {
            my (undef, $kind, undef, $size, $pad) = unpack "CCnnC", $piece;
            last if $kind == 3;
            read $to, $piece, $size + $pad; $bytes += $size;
            print substr $piece, 0, $size if $kind == 6;
        }
    ' -- "$@"
}
