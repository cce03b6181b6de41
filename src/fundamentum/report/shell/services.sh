is_older_than_its_files() { # PIDFILE FOLDER...: whether something the process reads has changed since it started
    pidfile=$1
    shift
    [ -f "$pidfile" ] && [ -n "$(find "$@" -cnewer "$pidfile" -print 2>/dev/null | head -n 1)" ]
}

switch_part() { # NAME QUERY COMMAND BACK: a part of a web server, unless QUERY tells that it is so already
    if sh -c "$2" >/dev/null 2>&1; then
        say "web server: $1 is as wanted"
        return 0
    fi
    say "web server: $3"
    [ "$act" = yes ] || return 0
    ahead '*'
    back "$4"
    sh -c "$3"
    altered
}

restart_service() { verb=restart; take_up "$@"; } # SERVICE PIDFILE COMMAND...: test the configuration with COMMAND first
reload_service() { verb=reload; take_up "$@"; }   # the same, where reading the configuration again is enough

start_service() { # SERVICE PIDFILE COMMAND...: one that does not run; with its configuration tested first
    service=$1 pidfile=$2
    shift 2
    if [ -f "$pidfile" ] && kill -0 "$(cat "$pidfile")" 2>/dev/null; then
        say "service $service: runs"
        return 0
    fi
    say "service $service: starting it"
    [ "$act" = yes ] || return 0
    "$@"
    back_by stop "$service"
    if [ -d /run/systemd/system ]; then systemctl start "$service"; else service "$service" start; fi
    taken_up=yes
}

take_up() {
    service=$1 pidfile=$2
    shift 2
    if [ "$changed" = no ] && [ "$act" = yes ] &&
        ! is_older_than_its_files "$pidfile" %READ_BY_SERVICES%; then
        say "service $service: nothing changed, left as it is"
        return 0
    fi
    if [ "$act" = no ]; then
        say "service $service: testing its configuration, then $verb, if anything changes"
        return 0
    fi
    "$@"
    back_by "$verb" "$service"
    if [ -d /run/systemd/system ]; then
        systemctl "$verb" "$service"
    elif service "$service" status >/dev/null 2>&1; then
        service "$service" "$verb"
    else
        say "service $service: not running here; it will start with the new configuration"
        return 0
    fi
    taken_up=yes
    say "service $service: ${verb}ed"
}
