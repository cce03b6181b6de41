#!/bin/sh
# Take the pictures in docs/screenshots anew: each command in a real terminal window, on a display of its own.
# With names of pictures as arguments: only those.
# Needs xvfb, xterm and imagemagick (Debian packages), and the fonts of fonts-dejavu-core.
set -eu
wanted=$*
cd "$(dirname "$0")/.."
here=$PWD
program=$(cd "${VENV:-.venv}/bin" && pwd)
[ -x "$program/fundamentum" ] || { echo "$program/fundamentum: not there; run make demo, or name another with VENV" >&2; exit 1; }
data=$here/src/fundamentum/demo/data
display=:${FUNDAMENTUM_DISPLAY:-77}

Xvfb "$display" -screen 0 1280x2200x24 >/dev/null 2>&1 &
server=$!
trap 'kill $server' EXIT
sleep 2

picture() { # NAME LINES COMMAND
    case " $wanted " in "  " | *" $1 "*) ;; *) return 0 ;; esac
    DISPLAY=$display PATH=$program:$PATH xterm -fa 'DejaVu Sans Mono' -fs 10 -geometry "140x$2" -bg '#10141c' -fg '#d8dee9' \
        -xrm 'xterm*scrollBar: false' -xrm 'xterm*internalBorder: 12' \
        -e sh -c "cd '$data'; printf '\033[1m\$ %s\033[0m\n\n' '$3'; $3; tput civis; sleep 7" &
    window=$!
    sleep 5
    DISPLAY=$display import -window root "$here/docs/screenshots/$1.png"
    wait $window || :
    convert "$here/docs/screenshots/$1.png" -trim +repage -shave 4x4 -trim +repage -bordercolor '#10141c' -border 14 -strip "$here/docs/screenshots/$1.png"
}

picture check-ready 14 'fundamentum check nightlog.needs.toml --server altair.survey.json'
picture check 66 'fundamentum check nightlog.needs.toml --server vega.survey.json'
picture check-accepted 74 'fundamentum check nightlog.needs.toml --server vega.survey.json --accepted vega.accepted.toml'
picture check-chain 86 'fundamentum check platevault.needs.toml --server deneb.survey.json'
picture plan 52 'fundamentum plan nightlog.needs.toml --server vega.survey.json'
picture plan-new-site 60 'fundamentum plan nightlog.needs.toml --server mizar.survey.json --site nightlog.observatory.example --directory /srv/nightlog'
picture derive 45 'fundamentum derive platevault'
picture derive-explain 20 'fundamentum derive platevault --explain pdo_mysql; fundamentum derive platevault --explain imap'
picture trace 34 'fundamentum trace memory_limit nightlog.needs.toml --server vega.survey.json; echo; fundamentum trace dom nightlog.needs.toml --server vega.survey.json'
picture compare 32 'fundamentum compare altair.survey.json vega.survey.json nightlog.needs.toml'
picture demo 62 'COLUMNS=138 fundamentum demo | head -n 58'
picture check-cannot-tell 34 'cp ../../../../docs/examples/installer.txt /tmp/; fundamentum check /tmp/installer.txt --server altair.survey.json'
picture needs-mistakes 20 'cd ../../../../docs/examples; fundamentum needs misspelt.needs.toml'
picture trace-install-line 16 'fundamentum trace --server vega.survey.json -- apt-get install php5-mysql libapache2-mod-php5 php5-mcrypt php5-gd php5-json php-zip mysql-server'
picture survey 22 'fundamentum survey vega.survey.json'
picture plan-three 114 'fundamentum plan nightlog.needs.toml platevault.needs.toml domekeeper.needs.toml --server deneb.survey.json'
picture playbook 52 'fundamentum plan nightlog.needs.toml --server vega.survey.json --format playbook | head -n 48'
picture script 50 'fundamentum plan nightlog.needs.toml --server vega.survey.json --format script | head -n 42'
picture windows-check 66 'fundamentum check nightlog.needs.toml --server ../../../../docs/examples/windows.survey.json'
