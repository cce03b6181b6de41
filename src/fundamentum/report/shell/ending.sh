finish() {
    finished=yes
    [ "$act" = no ] || rm -f "$backups"/*-"$plan"/unread
    if [ "$act" = no ]; then
        say "nothing was changed; run this with --yes to do it"
    elif [ -n "$keep" ]; then
        say "to go back: sh $keep/undo.sh"
    fi
    if [ "$unproved" = yes ]; then
        say "done, and not everything is as it was promised: see above" >&2
        exit 1
    fi
}
