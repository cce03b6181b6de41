journal() { # a directory of this run, which only root may see
    [ -z "$keep" ] || [ ! -d "$keep" ] || return 0
    mkdir -p "$backups"
    if [ -L "$backups" ] || [ "$(stat -c '%u' "$backups")" -ne "$(id -u)" ]; then
        say "$backups is not root's own directory: nothing was changed" >&2
        exit 1
    fi
    chmod 700 "$backups"
    : "${keep:=$backups/$(date +%Y%m%dT%H%M%S)-$plan}"
    while ! mkdir -m 700 "$keep" 2>/dev/null; do # a second run within one second
        sleep 1
        keep=$backups/$(date +%Y%m%dT%H%M%S)-$plan
    done
    rests_on >"$keep/rests-on"
    : >"$keep/steps"
    : >"$keep/services"
}

# The way back, on disk before a step is done: a command that does no harm where the step was never done.
back() { # COMMAND...
    journal
    { printf '%s\n' "$*"; cat "$keep/steps"; } >"$keep/steps.new"
    mv -f "$keep/steps.new" "$keep/steps"
    way_back
}

ahead() { # PATH|*: what a step is about to change, so that a run that is cut off in it can go on
    journal
    case $1 in
        '*') printf '* *\n' ;;
        *) printf '* %s\n* %s\n' "$1" "${1%/*}" ;;
    esac >>"$keep/ahead"
}

altered() { # after a change: what is there now is as this plan leaves it
    changed=yes
    [ -n "$keep" ] || return 0
    : >"$keep/unread" # until services have read it
    left
}

left() {
    sh -c "$marks" <"$keep/rests-on" >"$keep/left.new"
    mv -f "$keep/left.new" "$keep/left"
    rm -f "$keep/ahead"
}

back_by() { # restart|reload|stop SERVICE, or signal-NAME PIDFILE, once all files are as they were
    journal
    grep -qxF "$1 $2" "$keep/services" || printf '%s\n' "$1 $2" >>"$keep/services"
    way_back
}

# shellcheck disable=SC2016  # for undo.sh
way_back() { # undo.sh, whole at every moment
    {
        printf '%s\n' '#!/bin/sh' '# Takes back what was done, the last step first.' 'failed=0' \
            'take_back() { printf "%s\n" "$1"; sh -c "$1" || { printf "failed: %s\n" "$1" >&2; failed=1; }; }' \
            '[ "$(id -u)" -eq 0 ] || { echo "this has to be run as root" >&2; exit 1; }' \
            "[ ! -f $lock/asking ] || rm -f -- \"\$(cat $lock/asking)\"" # of a run that was killed while it asked a site
        # Of one that was killed while it put a file in the place of another.
        printf '[ ! -f %s ] || while read -r _ cut; do rm -f -- "${cut%%/*}/.fundamentum."??????; done <%s\n' "$keep/ahead" "$keep/ahead"
        while IFS= read -r taken; do printf 'take_back %s\n' "$(quoted "$taken")"; done <"$keep/steps"
        while read -r taken by; do
            case $taken in
                signal-*)
                    printf 'take_back %s\n' "$(quoted "kill -${taken#signal-} \$(cat $by)")"
                    continue
                    ;;
            esac
            printf 'take_back %s\n' "$(quoted "if [ -d /run/systemd/system ]; then systemctl $taken $by; elif [ -e $keep/taking-up-$by ] || service $by status >/dev/null 2>&1; then service $by $taken; fi")"
        done <"$keep/services"
        # What is there then is as this plan leaves it, too.
        printf 'cd "$(dirname "$0")" && sh -c %s <rests-on >left.new && cat left.new >>left\n' "$(quoted "$marks")"
        printf '%s\n' '[ "$failed" -ne 0 ] || mv -f undo.sh undone.sh' 'exit "$failed"'
    } >"$keep/undo.new"
    mv -f "$keep/undo.new" "$keep/undo.sh"
}

# For those who change things otherwise: what they are about to do, so that there is a way back.
note() { # TIME file PATH | packages NAME... | directory PATH OWNER GROUP MODE | command WORDS | service VERB NAME | left
    keep=$backups/$1-$plan
    shift
    case $1 in
        file)
            if [ -e "$2" ]; then
                keep "$2"
                back "cp -p $(quoted "$kept") $(quoted "$2")"
            else
                back "rm -f -- $(quoted "$2")"
            fi
            ahead "$2"
            ;;
        packages)
            shift
            for package; do
                ! is_installed "$package" || continue
                journal
                [ -f "$keep/packages" ] || packages_now >"$keep/packages"
                ahead '*'
                packages_back
                break
            done
            ;;
        directory) # empty words: that stays as it is
            if [ ! -e "$2" ]; then
                back "[ ! -d $(quoted "$2") ] || rmdir --ignore-fail-on-non-empty -- $(quoted "$2")"
            else
                was=$(stat -c '%U:%G %a' -- "$2")
                will=${was% *}
                [ -z "$3" ] || will=$3:${will#*:}
                [ -z "$4" ] || will=${will%%:*}:$4
                [ "$was" = "$will ${5:-${was#* }}" ] ||
                    back "chown ${was% *} $(quoted "$2"); chmod ${was#* } $(quoted "$2")"
            fi
            ;;
        command)
            back "$2"
            ;;
        service)
            back_by "$2" "$3"
            ;;
        left)
            [ -d "$keep" ] || return 0
            left
            say "to go back: sh $keep/undo.sh"
            ;;
    esac
    finished=yes
}
