keep() { # PATH: a copy where no service reads it, which only root may see; its path is left in "kept"
    journal
    kept=$keep/files$1
    (umask 077 && mkdir -p "${kept%/*}")
    cp -a -- "$1" "$kept"
}

scratch() { [ -n "$work" ] || work=$(mktemp -d); } # a directory for what is compared, gone at the end

put() { # NEW PATH: what is in NEW takes the place of PATH at once; a hidden name beside it is read by no service
    if [ -L "$2" ] || { [ -e "$2" ] && [ ! -f "$2" ]; }; then
        say "file $2: is a link now, or no plain file, which is not to be changed; plan again" >&2
        exit 1
    fi
    ahead "$2"
    of=$(stat -c '%u %g' -- "${2%/*}")
    if [ "${of% *}" -eq 0 ]; then
        rm -f -- "${2%/*}/.fundamentum."?????? # of a run that was killed here
        beside=$(mktemp "${2%/*}/.fundamentum.XXXXXX")
        if [ -e "$2" ]; then cp -a -- "$2" "$beside"; else chmod 644 "$beside"; fi
        cat <"$1" >"$beside"
        mv -f -- "$beside" "$2"
        beside=
    else
        # In somebody else's directory with his rights alone: no link that he puts there meanwhile leads any further.
        # shellcheck disable=SC2016  # for the other shell
        setpriv --reuid "${of% *}" --regid "${of#* }" --clear-groups -- sh -c '
            rm -f -- "${1%/*}/.fundamentum."?????? && new=$(mktemp "${1%/*}/.fundamentum.XXXXXX") &&
                if [ -e "$1" ]; then cp -a -- "$1" "$new"; else chmod 644 "$new"; fi && cat >"$new" && mv -f -- "$new" "$1"
        ' sh "$2" <"$1"
    fi
    altered
}

difference() { # PATH NEW: what a dry run shows
    was=$1
    [ -e "$was" ] || was=/dev/null
    diff -u -- "$was" "$2" 2>/dev/null | sed '1,2d; s/^/    /' || :
}

write_file() { # PATH LINE...
    path=$1
    shift
    # Compared elsewhere: a file that comes and goes here would make the directory look changed.
    scratch
    new=$work/new
    printf '%s\n' "$@" >"$new"
    if [ -f "$path" ] && cmp -s "$new" "$path"; then
        say "file $path: as wanted"
    elif [ "$act" = no ]; then
        say "file $path: writing"
        difference "$path" "$new"
    elif [ -e "$path" ]; then
        keep "$path"
        say "file $path: replacing (kept as $kept)"
        back "cp -p $(quoted "$kept") $(quoted "$path")"
        put "$new" "$path"
    else
        say "file $path: writing"
        back "rm -f -- $(quoted "$path")"
        put "$new" "$path"
    fi
}

# At their lines, or nowhere: with fewer lines around it, patch would change another place that looks the same.
at_lines() { # DIFF PATH -|+: whether what a diff takes away, or what it brings, stands at the lines that it names
    awk -v sign="$3" '
%AT_LINES%
' "$1" "$2"
}

fits() { # PATH DIFF NEW: NEW is the file with the change
    at_lines "$2" "$1" - && patch --binary -s -f -r - -o "$3" "$1" <"$2" >/dev/null 2>&1
}

change_file() { # PATH LINE...: the lines of a unified diff
    path=$1
    shift
    scratch
    diff=$work/diff new=$work/new
    printf '%s\n' "$@" >"$diff"
    command -v patch >/dev/null 2>&1 || install_packages patch
    if ! command -v patch >/dev/null 2>&1; then
        say "file $path: changing, with patch"
    elif at_lines "$diff" "$path" +; then
        say "file $path: as wanted"
    elif ! fits "$path" "$diff" "$new"; then
        say "file $path: not as it was when this was planned; plan again" >&2
        exit 1
    elif [ "$act" = no ]; then
        say "file $path: changing"
        difference "$path" "$new"
    else
        keep "$path"
        say "file $path: changing (kept as $kept)"
        back "cp -p $(quoted "$kept") $(quoted "$path")"
        put "$new" "$path"
    fi
}
