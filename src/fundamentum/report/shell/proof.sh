# What was promised, asked of the real PHP: over HTTP as a visitor, else of the pool itself, or of PHP's own program.
# A promise is NEED ASKS NAME=VALUE, percent-encoded; words that begin with PHP_ are what the web server sends along.
prove() { # APPLICATION HOST PORT SOCKET ROOT PROGRAM WORD...; empty where there is none
    for_whom=$1 host=$2 port=$3 listen=$4 root=$5 program=$6
    shift 6
    if [ "$act" = no ]; then
        say "afterwards: PHP itself is asked about $for_whom"
        return 0
    fi
    scratch
    answer=$work/answer promises=
    for word; do
        shift
        case $word in
            PHP_*=*) set -- "$@" "$word" ;;
            *) promises="$promises$word
" ;;
        esac
    done
    question >"$work/question.php"
    tries=1
    [ "$taken_up" = no ] || tries=25 # a service may go on with its old workers for a moment
    put_question "$@"
    while ! is_so && [ "$tries" -gt 1 ]; do
        tries=$((tries - 1))
        sleep 0.4
        put_question "$@"
    done
    told
}

put_question() { # NAME=VALUE...: once
    : >"$answer"
    if [ -n "$program" ]; then
        "$program" "$work/question.php" >"$answer" 2>/dev/null || :
        return 0
    fi
    place_question
    [ -z "$port" ] || [ -z "$asking" ] ||
        request http "127.0.0.1:$port" "$host" "/${asking##*/}" >"$answer" 2>/dev/null || :
    if [ -n "$listen" ] && ! grep -q '^ANSWER' "$answer"; then
        [ -n "$asking" ] || place_beside
        request fastcgi "$listen" REQUEST_METHOD=GET "SCRIPT_FILENAME=$asking" "SCRIPT_NAME=/${asking##*/}" \
            "DOCUMENT_ROOT=$root" "SERVER_NAME=$host" "HTTP_HOST=$host" "$@" >"$answer" 2>/dev/null || :
    fi
    rm -rf ${asking:+"$asking"} ${beside:+"$beside"}
    asking='' beside=''
}

question() { # the script that is asked
    cat <<'PHP'
<?php
header('Content-Type: text/plain');
$loaded = array_map('strtolower', array_merge(get_loaded_extensions(), get_loaded_extensions(true)));
echo "\nANSWER\n";
foreach (explode("\n", trim('
PHP
    printf %s "$promises"
    cat <<'PHP'
')) as $line):
    list($need, $asks, $pair) = explode(' ', $line);
    list($need, $name, $value) = array_map('rawurldecode', array_merge([$need], explode('=', $pair)));
    if ($asks === 'version') {
        $found = PHP_MAJOR_VERSION . '.' . PHP_MINOR_VERSION;
    } elseif ($asks === 'extension') {
        $found = in_array($name, $loaded) || in_array("zend $name", $loaded) ? 'loaded' : 'not loaded';
    } elseif ($asks === 'function') {
        $found = function_exists($name) ? 'there' : 'not there';
    } else {
        $found = ini_get($name);
    }
    echo $found === $value ? "so: $need" : "not so: $need", ' (', trim("$name $found"), ')',
        $found === $value ? '' : ", promised $value", "\n";
endforeach;
PHP
}

place_question() { # into the site's own directory for a moment, with the rights of its owner; its path is left in "asking"
    [ -n "$root" ] && [ -d "$root" ] || return 0
    inside=$(cd -P -- "$root" && pwd -P) || return 0
    of=$(stat -c '%u %g' -- "$inside")
    asking=$inside/fundamentum-$(od -An -N12 -tx1 /dev/urandom | tr -d ' \n').php
    [ -z "$locked" ] || printf '%s\n' "$asking" >"$locked/asking" # should this run be killed now, the next one removes it
    # shellcheck disable=SC2016  # for the other shell
    if ! setpriv --reuid "${of% *}" --regid "${of#* }" --clear-groups -- \
        sh -c 'umask 022; set -C; cat >"$1"' sh "$asking" <"$work/question.php" 2>/dev/null; then
        asking=
    fi
}

place_beside() { # where only a pool can be asked to run it
    asking=$(mktemp -d /run/fundamentum-XXXXXXXXXX)
    chmod 755 "$asking"
    cat <"$work/question.php" >"$asking/question.php"
    beside=$asking
    asking=$asking/question.php
}

is_so() { # whether every promise was answered, and is so
    wanted=$(printf %s "$promises" | grep -c .) || :
    sed -n '/^ANSWER/,$p' "$answer" | tr -d '\000-\010\013-\037\177' | grep -E '^(not )?so: ' >"$work/told" || :
    [ "$(grep -c '^so' "$work/told")" -eq "$wanted" ]
}

told() { # what came out
    is_so || :
    if grep -q '^ANSWER' "$answer" && [ "$(grep -c . "$work/told")" -eq "$wanted" ]; then
        sed "s/^/$for_whom: /" "$work/told"
        ! grep -q '^not so' "$work/told" || unproved=yes
    elif [ -s "$answer" ] || [ "$taken_up" = yes ] || [ -d /run/systemd/system ]; then
        say "$for_whom: not proved: PHP was asked${host:+ for $host} and gave no answer to $wanted promises; open the site yourself" >&2
        unproved=yes
    else
        say "$for_whom: not asked, since no PHP runs here that would serve it; once it does, run this again"
    fi
}

prove_access() { # APPLICATION NEED USER[:GROUP] -x|-w|-r PATH: what PHP's user may do
    [ "$act" = yes ] || return 0
    place=$5 user=${3%%:*} group=${3#"${3%%:*}"} group=${group#:}
    [ -n "$group" ] || group=$(id -g -- "$user") || :
    if [ "$4" = -x ] && [ ! -e "$place" ]; then # its package puts the program elsewhere than most do
        place=$(PATH=/usr/local/bin:/usr/bin:/bin:/usr/local/sbin:/usr/sbin:/sbin command -v -- "${5##*/}") || place=$5
    fi
    if (cd / && setpriv --reuid "$user" --regid "$group" --init-groups -- test "$4" "$place"); then
        say "$1: so: $2 ($place)"
    else
        say "$1: not so: $2 ($3 may not: $place)"
        unproved=yes
    fi
}
