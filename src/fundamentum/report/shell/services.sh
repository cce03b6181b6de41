is_older_than_its_files() { # SERVICE PIDFILE FOLDER...: whether something it reads has changed since it read it
    since=$2
    for earlier in "$backups"/*/"read-by-$1"; do # it read its files again then, and is the same process
        [ -z "$(find "$earlier" -newer "$since" 2>/dev/null)" ] || since=$earlier
    done
    shift 2
    [ -n "$(find "$@" -cnewer "$since" -print 2>/dev/null | head -n 1)" ]
}

switch_part() { # NAME QUERY COMMAND BACK: a part of what is there, unless QUERY tells that it is so already
    if sh -c "$2" >/dev/null 2>&1; then
        say "$1 is as wanted"
        return 0
    fi
    say "$3"
    [ "$act" = yes ] || return 0
    ahead '*'
    back "$4"
    sh -c "$3"
    altered
}

# SERVICE PIDFILE SIGNAL COMMAND...: test the configuration with COMMAND first; SIGNAL is for one that nothing manages
restart_service() { verb=restart; take_up "$@"; }
reload_service() { verb=reload; take_up "$@"; } # the same, where reading the configuration again is enough

runs() { [ -f "$1" ] && kill -0 "$(cat "$1")" 2>/dev/null; } # PIDFILE

manage() { # VERB SERVICE
    if [ -d /run/systemd/system ]; then systemctl "$1" "$2"; else service "$2" "$1"; fi
}

start_service() { # as above, one that does not run
    service=$1 pidfile=$2 signal=$3
    shift 3
    if runs "$pidfile"; then # with what there was before; it takes up what is new
        verb=restart
        take_up "$service" "$pidfile" "$signal" "$@"
        return 0
    fi
    say "service $service: starting it"
    [ "$act" = yes ] || return 0
    "$@"
    back_by stop "$service"
    manage start "$service"
    taken_up=yes
}

run_service() { # SERVICE PIDFILE: one that reads nothing of what is changed here
    if runs "$2"; then
        running=yes
    elif [ -d /run/systemd/system ]; then
        systemctl is-active --quiet "$1" && running=yes || running=no
    else
        service "$1" status >/dev/null 2>&1 && running=yes || running=no
    fi
    if [ "$running" = yes ]; then
        say "service $1: runs"
        return 0
    fi
    say "service $1: starting it"
    [ "$act" = yes ] || return 0
    back_by stop "$1"
    manage start "$1"
}

enable_service() { # SERVICE: at boot, where its package leaves that to the administrator
    case $(systemctl is-enabled "$1" 2>/dev/null) in
        disabled) ;;
        *) return 0 ;;
    esac
    say "service $1: letting it start at boot"
    [ "$act" = yes ] || return 0
    back "systemctl disable $1"
    systemctl enable "$1"
}

cut_off() { # SERVICE: whether an earlier run was cut off while it restarted it, so that it may not run at all
    for earlier in "$backups"/*/"taking-up-$1"; do
        [ ! -e "$earlier" ] || return 0
    done
    return 1
}

workers() { # PIDFILE: the processes that the one named there has started
    ! runs "$1" || cat "/proc/$(cat "$1")/task/$(cat "$1")/children" 2>/dev/null || :
}

old_ones_end() { # "PID...": wait, five seconds at most, until workers with the old configuration take no more requests
    tries=25
    for worker in $1; do
        while [ "$tries" -gt 0 ] && kill -0 "$worker" 2>/dev/null &&
            ! grep -q 'shutting down' "/proc/$worker/cmdline" 2>/dev/null; do
            sleep 0.2
            tries=$((tries - 1))
        done
    done
}

take_up() {
    service=$1 pidfile=$2 signal=$3
    shift 3
    if cut_off "$service"; then
        verb=restart
    elif [ "$changed" = no ] && [ "$act" = yes ] &&
        { [ ! -f "$pidfile" ] || ! is_older_than_its_files "$service" "$pidfile" %READ_BY_SERVICES%; }; then
        say "service $service: nothing changed, left as it is"
        return 0
    fi
    if [ "$act" = no ]; then
        say "service $service: testing its configuration, then $verb, if anything changes"
        return 0
    fi
    "$@"
    before=$(workers "$pidfile")
    if [ -d /run/systemd/system ] || cut_off "$service" || service "$service" status >/dev/null 2>&1; then
        back_by "$verb" "$service"
        : >"$keep/taking-up-$service"
        manage "$verb" "$service"
        rm -f "$backups"/*/"taking-up-$service"
    elif [ -n "$signal" ] && runs "$pidfile"; then # under a supervisor, or the only process of a container
        back_by "signal-$signal" "$pidfile"
        kill "-$signal" "$(cat "$pidfile")"
    else
        say "service $service: not running here; it will start with the new configuration"
        return 0
    fi
    [ "$verb" = restart ] || old_ones_end "$before"
    : >"$keep/read-by-$service"
    taken_up=yes
    say "service $service: ${verb}ed"
}
