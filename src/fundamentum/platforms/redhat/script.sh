is_installed() { # PACKAGE
    rpm -q -- "$1" >/dev/null 2>&1
}

is_offered() { # PACKAGE: or here already, which is not listed
    dnf -q list --available -- "$1" >/dev/null 2>&1 || is_installed "$1"
}

packages_now() { # all that is installed, each with its version
    rpm -qa --qf '%{NAME} %{VERSION}-%{RELEASE}\n'
}

packages_ready() { # whether packages can be installed at all: dnf itself waits for another one
    :
}

would_change() { # PACKAGE...: what is installed by name, and what is taken away, as dnf itself says beforehand
    dnf -q --assumeno install -- "$@" >"$work/dnf" 2>&1 || grep -q '^Transaction Summary' "$work/dnf" || {
        cat "$work/dnf" >&2
        return 1
    }
    awk '/^[A-Z][a-z ]*:$/ { verb = /^Installing:/ ? "install" : /^Removing/ ? "remove" : ""; next }
        /^Transaction Summary/ { exit }
        verb != "" && /^ [^ ]/ { print verb, $1 }' "$work/dnf"
}

packages_back() { # the way back, beside "packages"
    cat >"$keep/packages-back.sh" <<'SH'
# Takes the packages back to those that "packages" beside this names.
cd "$(dirname "$0")" || exit 1
rpm -qa --qf '%{NAME} %{VERSION}-%{RELEASE}\n' >packages-now
new=$(awk 'NR == FNR { had[$1] = 1; next } !($1 in had) { print $1 }' packages packages-now)
old=$(awk 'NR == FNR { had[$1] = $2; next } ($1 in had) && had[$1] != $2 { print $1 "-" had[$1] }' packages packages-now)
[ -z "$new" ] || dnf -y remove $new || exit 1
if [ -n "$old" ] && ! dnf -y downgrade $old; then
    printf 'stays as it is now, for want of its older version: %s\n' $old
fi
SH
    back "sh $keep/packages-back.sh"
}

put_packages() { # PACKAGE...
    packages_back
    dnf -y install -- "$@"
}

put_again() { # PACKAGE...
    dnf -y reinstall -- "$@"
}

need_stream() { # MODULE STREAM: a decision that this script does not take
    if dnf -q module list --enabled "$1" 2>/dev/null | grep -q " $2 .*\[e\]"; then
        say "module $1: stream $2 is on"
        return 0
    fi
    say "module $1: stream $2 is not switched on, which replaces what is installed of the other one"
    unconfigured="stream $2" # what would be installed then cannot be asked before
    [ "$act" = no ] || { say "decide that: dnf module switch-to $1:$2; then run this again" >&2; exit 1; }
}

request() { # fastcgi WHERE NAME=VALUE... | http HOST:PORT NAME PATH: what is answered; fails where nobody waits
    python=/usr/libexec/platform-python
    [ -x "$python" ] || python=python3
    "$python" -c '
import signal, socket, struct, sys
how, where, *rest = sys.argv[1:]
signal.signal(signal.SIGALRM, lambda *_: sys.exit(0))
signal.alarm(30)
try:
    if where.startswith("/"):
        to = socket.socket(socket.AF_UNIX)
        to.connect(where)
    else:
        host, _, port = where.rpartition(":")
        to = socket.create_connection((host or "127.0.0.1", int(port)))
except OSError:
    sys.exit(1)
out, count = sys.stdout.buffer, 0
def counted(text):
    return struct.pack(">B", len(text)) if len(text) < 128 else struct.pack(">I", len(text) | 0x80000000)
def record(kind, body):
    return struct.pack(">BBHHBx", 1, kind, 1, len(body), 0) + body
if how == "http":
    to.sendall(("GET %s HTTP/1.0\r\nHost: %s\r\nConnection: close\r\n\r\n" % (rest[1], rest[0])).encode())
else:
    values, pairs = {}, b""
    for word in rest:
        name, _, value = word.encode().partition(b"=")
        values.setdefault(name, []).append(value)
    for name, lines in values.items():
        value = b"\n".join(lines)
        pairs += counted(name) + counted(value) + name + value
    to.sendall(record(1, struct.pack(">HB5x", 1, 0)) + record(4, pairs) + record(4, b"") + record(5, b""))
stream = to.makefile("rb")
while count < 1000000:
    if how == "http":
        piece = stream.read(65536)
        if not piece:
            break
        out.write(piece)
    else:
        head = stream.read(8)
        if len(head) < 8:
            break
        _, kind, _, size, pad = struct.unpack(">BBHHBx", head)
        piece = stream.read(size + pad)[:size]
        if kind == 3:
            break
        if kind == 6:
            out.write(piece)
    count += len(piece)
' "$@"
}
