#!/bin/sh
# Records what decides whether a PHP application runs on this server, for a survey elsewhere.
#
#     sh recorder.sh [FILE]      FILE: where to write the recording (HOSTNAME.recording.tar); - is standard output
#
# It reads and changes nothing.  While it works it keeps its notes in a temporary directory, which it removes.  It needs
# sh, awk, find, stat, tar and what else a small system has; root only for files that only root may read.
# Passwords, tokens and environment variables are taken out here, before anything is written.
set -u
LC_ALL=C PATH=${PATH:-/usr/bin:/bin}:/usr/sbin:/usr/bin:/sbin:/bin QUOTING_STYLE=literal
export LC_ALL PATH QUOTING_STYLE
umask 077

fail() {
    printf 'recorder: %s\n' "$*" >&2
    exit 2
}

for tool in awk cut find grep head mktemp readlink sort stat tail tar tr wc xargs; do
    command -v "$tool" >/dev/null 2>&1 || fail "$tool is not installed here"
done
name=$(uname -n)
target=${1:-./$name.recording.tar}
stage=$(mktemp -d "${TMPDIR:-/tmp}/fundamentum.XXXXXX") || fail "no temporary directory"
trap 'rm -rf "$stage"' EXIT
trap 'exit 130' HUP INT TERM
mkdir "$stage/content"
printf '1\n' >"$stage/format"
printf '%s\n' "$name" >"$stage/hostname"
printf '%s %s\n' "$(date +%s)" "$(id -u)" >"$stage/visit"

# --- Which files there are.  First those that matter only for where they lead, then whole directories.

here() { # PATH...: those that exist
    for path; do
        if [ -e "$path" ] || [ -L "$path" ]; then printf '%s\n' "$path"; fi
    done
}

newline='
'
FORMAT='%f %s %Y %Z %u %g %n'
case $(stat -c '%.9Y' / 2>/dev/null) in
    *[0-9].[0-9]*) FORMAT='%f %s %.9Y %.9Z %u %g %n' ;;
esac

stats_of() { # paths on standard input, a line each
    tr '\n' '\000' | xargs -0 stat -c "$FORMAT" -- 2>/dev/null || :
}

below() { # PATTERN PATH...: everything below these whose name fits
    pattern=$1
    shift
    find -H "$@" -maxdepth 8 ! -name "*$newline*" \( -type d -o -name "$pattern" \) -print 2>/dev/null
}

existing() { # COMMAND PATTERN PATH...: run it with those paths that exist, if any do
    command=$1 pattern=$2
    shift 2
    for path; do
        shift
        [ -e "$path" ] && set -- "$@" "$path"
    done
    [ $# -eq 0 ] || "$command" "$pattern" "$@"
}

# What applications ask about beside PHP itself; each list is words of its own.
asked=%ASKED%
directories='%DIRECTORIES%'
commands='%COMMANDS%'
tasks='%TASKS%'
packages='%PACKAGES%'
texts='%TEXTS%'
sockets='%SOCKETS%'
locales='%LOCALES%'
options='%OPTIONS%'

# Files that configure the directory they lie in.
directory_files='%DIRECTORY_FILES%'
# Files elsewhere that configuration includes, each with the file at a known place at which that begins.
tab='	'
known=$(printf '%s\n' %READ%)
including='
    BEGIN { folders = split(known, folder, "\n") }
    {
        gsub(/\r/, "")
        count = split($0, parts, /[;}{]/) # a whole server may stand on one line
        for (at = 1; at <= count; at++) {
            text = parts[at]
            if (tolower(text) !~ /^[ \t]*include(optional)?[ \t]*[ \t=][ \t]*["\047]?\//) continue
            sub(/^[^\/]*/, "", text); sub(/["\047]?[ \t]*$/, "", text)
            if (text !~ /^\/[A-Za-z0-9_.@+*?\/-]+$/) continue
            for (one = 1; one <= folders; one++) if (index(text, folder[one] "/") == 1) break
            if (one > folders) print FILENAME "\t" text
        }
    }'
elsewhere() { # lines of FILE and PATTERN on standard input: the files that are meant, each with where that begins
    while IFS=$tab read -r file pattern; do
        begins=$(awk -F '\t' -v file="$file" '$1 == file { print $2; exit }' "$stage/included")
        for path in $pattern; do
            if [ -d "$path" ]; then set -- "$path"/*; else set -- "$path"; fi
            for path; do
                case $path in *"$newline"* | *"$tab"*) continue ;; esac
                [ -f "$path" ] && [ -r "$path" ] && printf '%s\t%s\n' "$path" "${begins:-$file}"
            done
        done
    done
}
: >"$stage/included"
existing below '*' %READ% | while IFS= read -r path; do [ -f "$path" ] && printf '%s\n' "$path"; done >"$stage/new"
for turn in 1 2 3; do
    cut -f 1 "$stage/new" | tr '\n' '\000' | xargs -0 awk -v known="$known" "$including" 2>/dev/null |
        head -n 5000 | elsewhere | awk -F '\t' -v done="$stage/included" '
            BEGIN { while ((getline line < done) > 0) { sub(/\t.*/, "", line); seen[line] = 1 } }
            !seen[$1]++' >"$stage/newer"
    mv "$stage/newer" "$stage/new"
    [ -s "$stage/new" ] || break
    cat "$stage/new" >>"$stage/included"
done

# Document roots, and where aliases lead, as the web servers' files name them.
rooted='
    {
        gsub(/\r/, "")
        count = split($0, parts, /[;}{]/)
        for (at = 1; at <= count; at++) {
            text = parts[at]; sub(/^[ \t]+/, "", text)
            word = text; sub(/[ \t].*/, "", word)
            if (!index(" %ROOTS% ", " " tolower(word) " ")) continue
            sub(/^[^ \t]+[ \t]+/, "", text); sub(/[ \t]+$/, "", text); gsub(/"/, "", text)
            sub(/^\/[^ \t]*[ \t]+/, "", text) # the address of an alias
            if (text ~ /^\/[A-Za-z0-9_.@+\/-]+$/) { sub(/\/$/, "", text); print text }
        }
    }'
roots=$({
    find -L %CONFIGURATION% -maxdepth 6 -type f -exec awk "$rooted" {} +
    cut -f 1 "$stage/included" | tr '\n' '\000' | xargs -0 awk "$rooted"
} 2>/dev/null </dev/null | sort -u | head -n 5000 | while IFS= read -r root; do
    printf '%s\n' "$root"
    readlink -f -- "$root" 2>/dev/null | grep -E '^/[A-Za-z0-9_.@+/-]+$' # a release to which a link leads
done | sort -u)

with_way() { # PATH: itself, and every directory on the way there, links followed too
    for at in "$1" "$(readlink -f -- "$1" 2>/dev/null)"; do
        while [ -n "$at" ] && [ "$at" != / ] && [ "$at" != . ]; do
            here "$at"
            at=${at%/*}
        done
    done
}

places() {
    for name in $commands; do
        for folder in /usr/local/bin /usr/bin /bin /usr/local/sbin /usr/sbin /sbin; do with_way "$folder/$name"; done
    done
    [ -n "$asked" ] || return 0
    for path in $directories; do
        case $path in
            /*) with_way "$path" ;;
            *) for root in $roots; do with_way "$root/$path"; with_way "${root%/*}/$path"; done ;;
        esac
    done
    for root in $roots; do with_way "${root%/*}"; done
    for path in $roots /tmp %BODIES%; do with_way "$path"; done
    # Where PHP and web servers are told to put what is sent in.
    find %READ% -maxdepth 5 -type f -exec awk '
        /^[ \t]*(php_admin_value\[|php_value\[)?(upload_tmp_dir|sys_temp_dir)\]?[ \t]*=/ { sub(/^[^=]*=[ \t]*/, ""); print }
        $1 != "" && index(" %BODY_FOLDERS% ", " " $1 " ") { print $2 }' {} + 2>/dev/null | tr -d '";\r' | sort -u |
        while IFS= read -r path; do case $path in /*) with_way "${path%/}" ;; esac; done
}
places | sort -u >"$stage/places"
{ # of what was not asked about nothing is known
    for path in $directories; do printf 'directory %s\n' "$path"; done
    for name in $commands; do printf 'command %s\n' "$name"; done
    for path in $tasks; do printf 'task %s\n' "$path"; done
} >"$stage/asked"
for root in $roots; do
    with_way "$root"
    here "$root/index.php"
    at=$root
    while [ -n "$at" ]; do
        for name in $directory_files; do here "$at/$name"; done
        at=${at%/*}
    done
    for name in .user.ini $directory_files; do
        here "$root/$name"
        find -H "$root" -maxdepth 4 \( -name vendor -o -name node_modules -o -name '.?*' -type d \) -prune -o \
            -type f -name "$name" -print 2>/dev/null | head -n 500 | while IFS= read -r path; do
                here "$path"
                while path=${path%/*} && [ "$path" != "$root" ] && [ -n "$path" ]; do here "$path"; done
            done
    done
done | sort -u >"$stage/ways"
cut -f 1 "$stage/included" | while IFS= read -r path; do with_way "$path"; done | sort -u >>"$stage/ways"

# What lies in document roots.  So many files of all of them that what else is looked at is not pushed out.
most=$((60000 / ($(printf '%s\n' "$roots" | wc -l) + 1)))
[ "$most" -le 6000 ] || most=6000
in_root() { # ROOT [OPTION ...]: files and directories in it, without those of libraries and of version control
    root=$1
    shift
    find -H "$root" "$@" \( -type d \( -name vendor -o -name node_modules -o -name .git \
        -o -name .svn -o -name .hg \) -prune -print \) -o ! -type l ! -name "*$newline*" -print 2>/dev/null
}
for root in $roots; do
    case ${root##*/} in
        public | public_html | web | www | htdocs | html | httpdocs | webroot | pub)
            case ${root%/*} in
                %SHARED%) ;;
                /*/*) here "$root"; root=${root%/*} ;;
            esac ;;
    esac
    [ -d "$root" ] && { in_root "$root" -maxdepth 1; in_root "$root" -mindepth 2 -maxdepth 3; } | head -n "$most"
done | sort -u >"$stage/open"

{
    cat "$stage/places" "$stage/ways"
    here /etc/passwd /etc/group /etc/timezone /etc/localtime /etc/selinux/config
    [ -z "$tasks" ] || existing below '*' /etc/crontab /etc/cron.d /etc/cron.hourly /etc/cron.daily /etc/cron.weekly \
        /etc/cron.monthly /var/spool/cron
    here / /* /usr/* /var/run /var/lib /var/cache /run /etc /etc/systemd \
        /usr/lib/systemd /usr/lib/systemd/system /usr/lib/systemd/system/php*.service \
        /etc/os-release /usr/lib/os-release /etc/hostname /usr/bin/php* /usr/sbin/php* \
        %HERE%
    existing below '*' %BELOW%
    existing below '*.service' /etc/systemd/system
    for folder in /etc /run /usr/local/lib /usr/lib /lib; do
        here "$folder/systemd" "$folder/systemd/system"
        for unit in %UNITS% service.d; do
            for path in "$folder/systemd/system/$unit"*; do
                case $path in *.service | *.d) existing below '*' "$path" ;; esac
            done
        done
    done
    for folder in /usr/lib /lib; do here "$folder"/systemd/system/*fpm*; done
    # What units and environments name as the place of PHP's configuration.
    find -L /etc/systemd/system /run/systemd/system /usr/local/lib/systemd/system /usr/lib/systemd/system \
        /lib/systemd/system /etc/default /etc/sysconfig \
        %ENVIRONMENTS% %CONFIGURATION% -maxdepth 2 -type f \
        -exec grep -hE 'PHPRC|PHP_INI_SCAN_DIR|fpm|^[ \t]*[Pp][Hh][Pp][Ii][Nn][Ii][Dd][Ii][Rr][ \t]' {} + 2>/dev/null |
        awk '{ n = split($0, words, /[ =:"\047\r]+/); for (i = 1; i <= n; i++) print words[i] }' | grep -E '^/[A-Za-z0-9_.@+/-]+$' | sort -u | head -n 100 |
        while IFS= read -r path; do
            with_way "$path"
            case $path in
                */bin/* | */sbin/* | /run/* | /var/*) ;;
                */*/*.conf) existing below '*.conf' "${path%/*}" ;;
                *) existing below '*.ini' "$path" ;;
            esac
        done
    [ -z "$tasks" ] || existing below '*.timer' /etc/systemd/system
    if [ -n "$options" ]; then
        here /etc/my.cnf /etc/mysql /etc/postgresql /etc/postgresql/* /var/lib/pgsql /var/lib/pgsql/data
        existing below '*.cnf' /etc/mysql /etc/my.cnf.d
        existing below '*.conf' /etc/postgresql
        here /var/lib/pgsql/data/*.conf /var/lib/postgresql/*/*/postgresql.auto.conf
    fi
    existing below '*.so' %EXTENSIONS%
%PATHS%
} 2>/dev/null | sort -u | head -n 100000 | sort -u - "$stage/open" >"$stage/paths"

# --- Where links lead in the end, and what stands there, also outside of those directories.

stats_of <"$stage/paths" >"$stage/stats"
awk '$1 ~ /^a/ { for (i = 0; i < 6; i++) sub(/^[^ ]+ /, ""); print }' "$stage/stats" >"$stage/linked"
tr '\n' '\000' <"$stage/linked" | xargs -0 readlink -f -- 2>/dev/null >"$stage/ends" || :
if [ "$(wc -l <"$stage/linked")" -ne "$(wc -l <"$stage/ends")" ]; then
    while IFS= read -r path; do # some lead nowhere, or only one can be asked for at a time
        readlink -f -- "$path" 2>/dev/null || printf '\n'
    done <"$stage/linked" >"$stage/ends"
fi
awk 'FILENAME == ARGV[1] { from[++n] = $0; next } { print from[FNR] "\t" $0 }' "$stage/linked" "$stage/ends" >"$stage/links"
awk 'FILENAME == ARGV[1] { seen[$0] = 1; next } $0 != "" && !seen[$0]++ { print }' "$stage/paths" "$stage/ends" |
    while IFS= read -r path; do here "$path"; done | stats_of >>"$stage/stats"

# --- What the server's own programs say.

%ANSWERS%

# --- Texts and sockets that were asked about: what is there, line by line, without what may be a password.

{
    for path in $texts; do
        if [ -f "$path" ] && [ -r "$path" ]; then
            printf 'there\ttext:%s\n' "$path"
            head -c 65536 -- "$path" | tr '\t\000' '  ' | grep -viE 'passw|passwd|secret|token|credential|api_?key|license|://[^/]*@' |
                head -n 500 | awk -v of="$path" '{ print "line\ttext:" of "\t" $0 }'
        elif [ ! -e "$path" ]; then
            printf 'absent\ttext:%s\n' "$path"
        fi
    done
    for place in $sockets; do
        case $place in
            /*) awk -v path="$place" '$NF == path && $4 ~ /1....$/ { found = 1 } END { exit !found }' /proc/net/unix ;;
            *) awk -v port="$(printf ':%04X' "${place##*:}")" 'substr($2, length($2) - 4) == port && $4 == "0A" { found = 1 }
                END { exit !found }' /proc/net/tcp /proc/net/tcp6 ;;
        esac 2>/dev/null && printf 'there\tsocket:%s\n' "$place" || printf 'absent\tsocket:%s\n' "$place"
    done
} 2>/dev/null >"$stage/answer-asked"

if [ -n "$locales" ] && command -v locale >/dev/null 2>&1; then locale -a 2>/dev/null | head -n 2000 >"$stage/answer-locales"; fi

# --- Directories that cannot be listed.

awk '$1 ~ /^4/ { for (i = 0; i < 6; i++) sub(/^[^ ]+ /, ""); print }' "$stage/stats" | while IFS= read -r path; do
    if [ ! -r "$path" ] || [ ! -x "$path" ]; then printf '%s\n' "$path"; fi
done >"$stage/unreadable"

# --- Access lists, labels and space of the places that were asked about; the machine.

if [ -n "$asked" ]; then
    with_root() { printf '/\n'; cat "$stage/places"; }
    with_root | tr '\n' '\000' | xargs -0 stat -L -c '%C %n' -- 2>/dev/null >"$stage/labels" || :
    if command -v getfacl >/dev/null 2>&1; then
        with_root | tr '\n' '\000' | xargs -0 getfacl -npLs -- 2>/dev/null >"$stage/grants" || :
    fi
    with_root | while IFS= read -r path; do
        df -kP -- "$path" 2>/dev/null | awk -v path="$path" 'NR == 2 { print $4 " " path }'
    done >"$stage/space"
fi
{
    awk '$1 == "MemTotal:" { print "memory " $2 } $1 == "SwapTotal:" { print "swap " $2 }' /proc/meminfo
    printf 'processors %s\n' "$(nproc || getconf _NPROCESSORS_ONLN)"
    [ -r /sys/fs/selinux/enforce ] && printf 'enforce %s\n' "$(cat /sys/fs/selinux/enforce)"
} >"$stage/machine" 2>/dev/null

# --- Running servers: the beginning of their command line, and their start in hundredths of a second since 1970.

ticks=$(getconf CLK_TCK 2>/dev/null || printf 100)
boot=$(awk '$1 == "btime" { print $2 }' /proc/stat 2>/dev/null)
case $(date +%s.%N) in # where the time is known more closely than to the second
    *.[0-9]*) boot=$(date +%s.%N | awk 'getline up <"/proc/uptime" { split(up, uptime, " "); printf "%.2f\n", $1 - uptime[1] }') ;;
esac
root=$(stat -L -c '%d:%i' / 2>/dev/null)
# shellcheck disable=SC2013  # the names under /proc are plain
for file in $(grep -lE '%PROCESSES%' /proc/[0-9]*/cmdline 2>/dev/null); do
    number=${file#/proc/}
    number=${number%/cmdline}
    of_process=$(stat -L -c '%d:%i' "/proc/$number/root/" 2>/dev/null) || of_process=hidden
    [ "$of_process" = "$root" ] || [ "$of_process" = hidden ] || continue
    title=$(head -c 300 "$file" 2>/dev/null | tr '\000\n' '  ' | awk '{
        if (match($0, "^(%PROCESSES%)( |$)")) {
            title = substr($0, 1, RLENGTH); sub(/ $/, "", title); print title }
    }')
    environment=$({ tr '\000\t' '\n ' <"/proc/$number/environ"; } 2>/dev/null | awk '
        NR == 1 { if (!/^[A-Za-z_][A-Za-z0-9_]*=/) exit; printf "seen" }
        /^(%VARIABLES%)=/ { printf "\t%s", $0 }')
    export environment
    [ -n "$title" ] && awk -v boot="$boot" -v ticks="$ticks" -v title="$title" -v seen="$of_process" \
        -v program="$(readlink "/proc/$number/exe" 2>/dev/null)" '{
        sub(/.*\) /, "")
        printf "%s\t%.2f\t%s\t%s\t", (seen == "hidden" ? "hidden" : "seen"), boot + $20 / ticks, title, program
        print ENVIRON["environment"]
    }' "/proc/$number/stat" 2>/dev/null
done >"$stage/processes"

# --- What is in the files: configuration without its secrets, package lists as far as they matter, programs.

cat >"$stage/filter.awk" <<'AWK'
%FILTER%
AWK
awk -v stage="$stage" -v known=" %KNOWN% " -v tasks="$tasks" -v roots="$roots" -f "$stage/filter.awk" "$stage/stats"

%CONTENTS%
# Programs of the distribution: their version.  Others: whole.
if [ -s "$stage/programs" ]; then
    while IFS='	' read -r number path; do
        printf '%s\000' "$(tr '\000' '\n' <"$path" | grep -a '^X-Powered-By: PHP/' | head -n 1)" >"$stage/content/$number"
    done <"$stage/programs"
fi
# Extension files that a package brought: what they were built for.  Others: whole.
if [ -s "$stage/modules" ]; then
    cut -f 2 "$stage/modules" | tr '\n' '\000' | xargs -0 head -q -c 20 -- >"$stage/heads" 2>/dev/null
    cut -f 2 "$stage/modules" | tr '\n' '\000' |
        xargs -0 grep -aoHE 'API[0-9]+,N?TS(,debug)?' -- >"$stage/identities" 2>/dev/null
    if [ "$(wc -c <"$stage/heads")" -ne $(($(wc -l <"$stage/modules") * 20)) ]; then
        cat "$stage/modules" >>"$stage/whole"
        : >"$stage/modules"
    else
        awk -F '\t' 'FILENAME == ARGV[1] { path = $0; sub(/:API[^:]*$/, "", path); found[path] = 1; next }
            !($2 in found) { print }' "$stage/identities" "$stage/modules" >>"$stage/whole"
    fi
fi
if [ -s "$stage/whole" ]; then
    while IFS='	' read -r number path; do
        cat <"$path" >"$stage/content/$number" 2>/dev/null
    done <"$stage/whole"
fi

# --- One archive.

cd "$stage" || exit 2
rm -f places ways open included new newer paths linked ends owned programs whole filter.awk
pack() { if command -v gzip >/dev/null 2>&1; then tar -cf - . | gzip -1; else tar -cf - .; fi; }
if [ "$target" = - ]; then
    pack
elif [ "$target" = framed ]; then # behind whatever the login itself prints
    printf '\n%s\n' 'recording follows'
    pack
else
    cd "$OLDPWD" || exit 2
    written=$target.$$.part
    (cd "$stage" && pack) >"$written" || { rm -f "$written"; fail "$target cannot be written"; }
    mv -f "$written" "$target" || { rm -f "$written"; fail "$target cannot be written"; }
    printf 'recorded: %s\n' "$target" >&2
fi
