[ "$act" = no ] || [ "$(id -u)" -eq 0 ] || { say "this has to be run as root" >&2; exit 1; }

if [ "$act" != no ]; then # one plan at a time
    if ! mkdir "$lock" 2>/dev/null; then
        if [ -f "$lock/pid" ] && kill -0 "$(cat "$lock/pid")" 2>/dev/null; then
            say "another plan is being carried out here, by process $(cat "$lock/pid"): nothing was changed" >&2
            exit 1
        fi
        [ ! -f "$lock/asking" ] || rm -f -- "$(cat "$lock/asking")" # that run was killed while it asked a site
        rm -rf "$lock"
        mkdir "$lock"
    fi
    locked=$lock
    printf '%s\n' "$$" >"$lock/pid"
fi

if [ "$act" = undo ]; then
    newest=$(find "$backups" -mindepth 2 -maxdepth 2 -name undo.sh 2>/dev/null | sort | tail -n 1)
    [ -n "$newest" ] || { say "there is nothing to take back in $backups" >&2; exit 1; }
    say "taking back: $newest"
    sh "$newest"
    finished=yes
    exit 0
fi
