# Before the first change: what the plan rests on is as it was when it was made, or as this plan itself left it.

# Reads MARK PATH on each line, and writes the same for what is there now.
# shellcheck disable=SC2016  # for another shell
marks='while read -r was path; do
    if [ "${was%%:*}" = account ]; then
        is=account:$(id -u -- "$path" 2>/dev/null):$(id -G -- "$path" 2>/dev/null | tr " " "\n" | sort -nu | paste -sd , -)
    elif [ "${was%%:*}" = place ] && [ -e "$path" ]; then
        is=place:$(stat -c "%u:%g:%a" -- "$path")
    elif [ -d "$path" ]; then
        is=names:$(ls -A -- "$path" 2>/dev/null | grep -vE "%LEFTOVER%" | LC_ALL=C sort | sha256sum)
    elif [ ! -e "$path" ]; then
        is=absent
    elif [ ! -r "$path" ]; then
        is=$was
    elif [ "${was%%:*}" = time ]; then
        is=time:$(stat -L -c "%s %Y %Z" -- "$path" | awk "{ print \$1 \":\" (\$2 > \$3 ? \$2 : \$3) }")
    else
        is=sha256:$(sha256sum <"$path")
    fi
    printf "%s %s\n" "${is%% *}" "$path"
done'

as_planned() { # else nothing is changed, and the plan has to be made again
    scratch
    rests_on | sh -c "$marks" >"$work/now"
    rests_on >"$work/accepted"
    for earlier in "$backups"/*"-$plan"; do
        [ ! -e "$earlier/unread" ] || changed=yes # a run that was cut off before services had read it
        cat "$earlier/left" "$earlier/ahead" >>"$work/accepted" 2>/dev/null || :
    done
    ! grep -qxF '* *' "$work/accepted" || return 0 # cut off while packages were installed: what that left is taken as it is
    grep -vxFf "$work/accepted" "$work/now" | cut -d ' ' -f 2- >"$work/changed" || :
    sed -n 's/^\* //p' "$work/accepted" >"$work/ahead"
    if [ -s "$work/ahead" ]; then
        grep -vxFf "$work/ahead" "$work/changed" >"$work/still" || :
        mv -f "$work/still" "$work/changed"
    fi
    [ -s "$work/changed" ] || return 0
    if grep -qx /etc/hostname "$work/changed"; then
        say "this plan was made for another server than $(uname -n)" >&2
    fi
    sed 's/^/changed since this was planned: /' "$work/changed" >&2
    no_longer
}

no_longer() {
    say "the server is no longer as it was when this was planned: nothing was changed; plan again" >&2
    finished=yes
    exit 4
}

packages_as_planned() { # WANTED ALONG REMOVED, names with blanks between: what the package manager itself would do
    scratch
    absent=
    for package in $1; do is_installed "$package" || absent="$absent $package"; done
    [ -n "$absent" ] && [ -z "$unconfigured" ] || return 0
    packages_ready || exit 1
    # shellcheck disable=SC2086  # names
    if ! would_change $absent >"$work/would" 2>"$work/why"; then
        sed 's/^/packages: /' "$work/why" >&2
        no_longer
    fi
    for package in $1 $2; do printf 'install %s\n' "$package"; done >"$work/expected"
    for package in $3; do printf 'remove %s\n' "$package"; done >>"$work/expected"
    grep -vxFf "$work/expected" "$work/would" >"$work/more" || :
    for package in $absent; do
        grep -qxF "install $package" "$work/would" || printf 'not install %s\n' "$package" >>"$work/more"
    done
    [ -s "$work/more" ] || return 0
    sed 's/^/packages: not as planned, it would now also /; s/also not/not/' "$work/more" >&2
    if [ "$more" = --more-packages ] && ! grep -qv '^install ' "$work/more"; then
        return 0
    fi
    grep -qv '^install ' "$work/more" || say "packages: --yes --more-packages lets those be installed or upgraded too" >&2
    no_longer
}

valid_now() { # SERVICE yes|no COMMAND...: whether its configuration is valid; yes: this plan may be what mends it
    checked=$1 mends=$2
    shift 2
    [ "$(id -u)" -eq 0 ] && command -v "$1" >/dev/null 2>&1 || return 0
    scratch
    ! "$@" >"$work/valid" 2>&1 || return 0
    say "service $checked: its configuration is not valid now, before anything is changed:" >&2
    tail -n 5 "$work/valid" >&2
    if [ "$mends" = no ]; then
        say "mend that first: nothing was changed" >&2
        finished=yes
        exit 1
    fi
}
