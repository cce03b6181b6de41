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

would_change() { # PACKAGE...: what is installed by name, and what is taken away, as dnf itself says beforehand
    dnf -q --assumeno install -- "$@" >"$work/dnf" 2>&1 || grep -q '^Transaction Summary' "$work/dnf" || {
        cat "$work/dnf" >&2
        return 1
    }
    awk '/^[A-Z][a-z ]*:$/ { verb = /^Installing:/ ? "install" : /^Removing/ ? "remove" : ""; next }
        /^Transaction Summary/ { exit }
        verb != "" && /^ [^ ]/ { print verb, $1 }' "$work/dnf"
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
    unconfigured="stream $2" # what dnf would install then cannot be asked before
    [ "$act" = yes ] || return 0
    ahead '*'
    dnf -y module switch-to "$1:$2"
    altered
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
