# Goes through the list of files, and writes what may leave the server of each into content/NUMBER.
# Every line keeps its number, so that findings name the right place.

BEGIN {
    number = 0
    task_count = split(tasks, task_names, " ")
    root_count = split(roots, root_names, /[ \n]/)
    while ((getline line < (stage "/links")) > 0) { # what a link leads to is of the same kind as where it stands
        split(line, parts, "\t")
        if (!(parts[2] in linked_from)) linked_from[parts[2]] = parts[1]
    }
    while ((getline line < (stage "/included")) > 0) { # and so is what a file includes from elsewhere
        split(line, parts, "\t")
        included_from[parts[1]] = parts[2]
    }
}

{
    mode = $1; size = $2
    path = $0
    for (i = 0; i < 6; i++) sub(/^[^ ]+ /, "", path)
    if (mode !~ /^8/) next
    if (path in done) next
    done[path] = 1
    files[++count] = path
    sizes[path] = size
}

END {
    while ((getline line < (stage "/owned")) > 0) owned[line] = 1
    for (f = 1; f <= count; f++) {
        kind = (files[f] in included_from) ? kind_of(included_from[files[f]]) : ""
        if (kind == "ini") kind = "settings" # whoever may write there may have put anything else in its place
        if (kind == "") kind = kind_of(files[f])
        if (kind == "" && (files[f] in linked_from)) kind = kind_of(linked_from[files[f]])
        take(files[f], kind)
    }
}

function kind_of(path,   stem, kind) {
    if (path ~ /^\/proc\//) return ""
    if (path ~ /\.so(\.[0-9.]+)?$/ && path !~ /\/libphp[^\/]*\.so$/) {
        stem = path
        sub(/^.*\//, "", stem); sub(/\.so$/, "", stem)
        return (path in owned) && index(known, " " stem " ") ? "later:modules" : "later:whole"
    }
    if ((kind = kind_by_entry(path)) != "") return kind
    if (path ~ /\/(php-?[0-9.]*(-?(fpm|cgi)-?[0-9.]*)?|libphp[^\/]*\.so)$/) return "later:whole"
    if (path ~ /(^|\/)os-release$/ || path == "/etc/hostname") return "plain"
    if (path ~ /\.service$/ || path ~ /\/systemd\/system\/[^\/]*\.d\/[^\/]*\.conf$/) return "unit"
    if (path ~ /^\/etc\/(sysconfig|default)\//) return "environment"
    if (path ~ /\.timer$/) return "timer"
    if (path ~ /^\/etc\/(my|mysql\/).*\.cnf/) return "options"
    if (path ~ /\/(postgresql|pgsql)\/.*\.conf$/) return "postgresql"
    if (path == "/etc/passwd" || path == "/etc/group") return substr(path, 6)
    if (path == "/etc/timezone" || path == "/etc/selinux/config") return "plain"
    if (path == "/etc/crontab" || path ~ /^\/etc\/cron\.d\// || path ~ /^\/var\/spool\/cron\//) return "cron"
    if (path ~ /^\/etc\/cron\.(hourly|daily|weekly|monthly)\//) return "script"
    if (path ~ /\.php$/ && sizes[path] <= 4096)
        for (i_root = 1; i_root <= root_count; i_root++)
            if (index(path, root_names[i_root] "/") == 1) return "page"
    if (path ~ /\.ini$/ || path ~ /\/php-fpm\.conf$/ || path ~ /\/(pool|php-fpm)\.d\// || path ~ /\/etc\/[^\/]*\.conf$/) return "ini"
    return ""
}

function take(path, kind,   line, out, left, text, state) {
    if (kind == "") return
    number++
    printf "%d\t%s\t%s\n", number, sizes[path], path > (stage "/contents")
    if (sub(/^later:/, "", kind)) { printf "%d\t%s\n", number, path > (stage "/" kind); check(path); return }
    out = stage "/content/" number
    left = sizes[path] + 0
    state = 0; quoted = 0; in_group = 0
    begin_entries()
    printf "" > out
    while ((state = (getline line < path)) > 0) {
        left -= length(line) + 1
        text = filtered(line, kind)
        if (text != "\001") printf "%s%s", text, (left < 0 ? "" : "\n") > out
    }
    if (state < 0) print path >> (stage "/unreadable")
    close(path); close(out)
}

function check(path,   line, state) {
    state = (getline line < path)
    close(path)
    if (state < 0) print path >> (stage "/unreadable")
}

# The program, and of its options those that decide which configuration is read; no value but of files.
function started(line,   count, words, i, out) {
    count = split(line, words, " ")
    out = words[1]
    for (i = 2; i <= count; i++) {
        if (words[i] ~ /^(-n|--no-php-ini|-c|--php-ini(=.*)?|-y|--fpm-config(=.*)?|-p|--prefix(=.*)?)$/) out = out " " words[i]
        else if (words[i] ~ /^-[cyp]/ || words[i] ~ /^\// || words[i] == "$CONFFILE") out = out " " words[i]
        else if (words[i] ~ /^(-d|--define)$/) { i++; out = out " -d " defined_(words[i]) }
        else if (words[i] ~ /^(-d|--define=)/) { sub(/^(-d|--define=)/, "", words[i]); out = out " -d " defined_(words[i]) }
    }
    return out (line ~ /\\$/ ? " -y $" : "") # what comes on the next line is not known
}

function defined_(word) {
    if (secret(word) || word !~ /^[A-Za-z_][A-Za-z0-9_.]*=["']?[A-Za-z0-9_.,:\/-]*["']?$/) sub(/=.*/, "=…", word)
    return word
}

# Of the variables in a line those that decide which files PHP reads.
function deciding(line,   out, piece) {
    out = ""
    while (match(line, /(PHPRC|PHP_INI_SCAN_DIR)=[^" \t'\\;]*/)) {
        piece = substr(line, RSTART, RLENGTH)
        line = substr(line, RSTART + RLENGTH)
        if (piece !~ /^[A-Z_]+=[A-Za-z0-9_.,:\/@+-]*$/) piece = substr(piece, 1, index(piece, "=")) "$"
        out = out (out == "" ? "" : " ") piece
    }
    return out
}

function exported(line,   out, blanks) {
    if (line ~ /^[ \t]*#/ || (out = deciding(line)) == "") return ""
    blanks = line; sub(/[^ \t].*/, "", blanks)
    return blanks (line ~ /^[ \t]*export[ \t]/ ? "export " : "") out
}

function filtered(line, kind,   key) {
    if (kind == "plain") return line
    if (kind == "page") return line ~ /^[^\/#*]*phpinfo[ \t]*\(/ ? "phpinfo(" : "" # nothing else of a page leaves the server
    if (kind == "passwd") { # of people, no more than their numbers
        split(line, fields, ":")
        return fields[1] ":x:" fields[3] ":" fields[4] "::" (fields[3] + 0 < 1000 ? fields[6] : "") ":"
    }
    if (kind == "group") { split(line, fields, ":"); return fields[1] ":x:" fields[3] ":" fields[4] }
    if (kind == "timer") return line ~ /^[ \t]*(Unit|OnCalendar|OnUnit(Active|Inactive)Sec)[ \t]*=/ ? line : ""
    if (kind == "options") { # of the server's own groups alone, and no password
        if (line ~ /^[ \t]*\[/) { in_group = line ~ /^[ \t]*\[[ \t]*(mysqld|server|mariadb|mariadbd|client-server|galera)(-[0-9.]+)?[ \t]*\]/; return line }
        if (line ~ /^[ \t]*!include/) return line
        return in_group && line !~ /^[ \t]*[#;]/ && !secret(line) ? line : ""
    }
    if (kind == "postgresql") return line !~ /^[ \t]*#/ && !secret(line) ? line : ""
    if (kind == "cron" || kind == "script") {
        if (line ~ /^[ \t]*#/ || !(out_task = task_in(line))) return ""
        if (kind == "script") return out_task
        split(line, fields, " ")
        if (fields[1] ~ /^@/) return fields[1] " " (fields[2] ~ /^[a-z_][a-z0-9_-]*$/ ? fields[2] : "x") " " out_task
        return fields[1] " " fields[2] " " fields[3] " " fields[4] " " fields[5] " " \
            (fields[6] ~ /^[a-z_][a-z0-9_-]*$/ ? fields[6] : "x") " " out_task
    }
    if (kind == "unit") {
        if (line ~ /^[ \t]*User[ \t]*=/) return line
        if (line ~ /^ExecStart/ && (out_task = task_in(line))) return "ExecStart=" out_task
        if (line ~ /^[ \t]*WorkingDirectory[ \t]*=[ \t]*[A-Za-z0-9_.\/@+-]+[ \t]*$/) return line
        if (line ~ /^\[/) return line
        if (line ~ /^[ \t]*(%SANDBOXES%)[ \t]*=/) { # what stands for something else may be anything
            if (line !~ /=[A-Za-z0-9_.\/@+ ~:-]*$/) sub(/=.*/, "=%", line)
            return line
        }
        if (line ~ /^[ \t]*Environment[ \t]*=[ \t]*$/) return "Environment="
        if (line ~ /^[ \t]*Environment[ \t]*=/) return (out_task = deciding(line)) == "" ? "Environment=X=" : "Environment=" out_task
        if (line ~ /^[ \t]*UnsetEnvironment[ \t]*=/) return line ~ /PHPRC|PHP_INI_SCAN_DIR/ ? line : ""
        if (line ~ /^[ \t]*EnvironmentFile[ \t]*=/) return scrubbed(line)
        if (sub(/^[ \t]*ExecStart[ \t]*=[ \t]*/, "ExecStart=", line)) return started(line)
        return ""
    }
    if (kind == "environment") {
        if (sub(/^DAEMON_ARGS=/, "DAEMON_ARGS= ", line) == 0) return exported(line)
        gsub(/["']/, "", line)
        line = started(line)
        return sub(/^DAEMON_ARGS= ?/, "DAEMON_ARGS=\"", line) ? line "\"" : line
    }
    if (kind == "settings") return quoted || line ~ /^[ \t]*(\[[^]]*\]|[A-Za-z0-9_.]+[]A-Za-z0-9_.[]*[ \t]*=)/ ? ini(line) : ""
    if (kind == "ini") return ini(line)
    return filtered_by_entry(line, kind)
}

# Of a line that names a task no more than the directory it goes to, the PHP in front, and the file that is run.
function task_in(line,   n) {
    for (n = 1; n <= task_count; n++) if (index(line, task_names[n])) return run_in(line, task_names[n])
    return ""
}

function run_in(line, task,   n, words, count, word, php, folder) {
    gsub(/[;&|()'"=]/, " ", line)
    count = split(line, words, /[ \t]+/)
    for (n = 1; n <= count; n++) {
        word = words[n]
        if (word == task || substr(word, length(word) - length(task)) == "/" task) {
            if (word !~ /^[A-Za-z0-9_.\/@+-]+$/) return task
            return (folder == "" ? "" : "cd " folder " && ") (php == "" ? "" : php " ") word
        }
        if (word ~ /^([A-Za-z0-9_.\/-]*\/)?php(-cli|-?[0-9][0-9.]*)?$/) php = word
        if (n > 1 && words[n - 1] == "cd" && word ~ /^[A-Za-z0-9_.\/@+-]+$/) folder = word
    }
    return task
}

# A directive that holds a secret loses its value; so do credentials inside of values.  Environment variables and
# comments go altogether.
function ini(line,   name, value, marks) {
    if (quoted) {
        marks = gsub(/"/, "\"", line)
        if (marks % 2) quoted = 0
        return hiding ? (quoted ? "" : "\"") : scrubbed(line)
    }
    if (line ~ /^[ \t]*[;#]/) return ""
    if (line ~ /^[ \t]*env[ \t]*\[/) { name = "env"; value = line } else {
        name = line; sub(/[ \t]*=.*/, "", name); sub(/^[ \t]*/, "", name)
        value = line; if (sub(/^[^=]*=[ \t]*/, "", value) == 0) value = ""
    }
    if (name ~ /(^|\[)sendmail_path\]?[ \t]*$/ && value ~ /[ \t]/) {
        sub(/[ \t]*;[^"']*$/, "", value)
        return name " = " mailer(value)
    }
    hiding = name == "env" || secret(name)
    marks = gsub(/"/, "\"", value)
    quoted = marks % 2 && value !~ /^[^"]*;/
    if (!hiding) return scrubbed(line)
    if (name == "env") { quoted = 0; return "env[noted] = noted" }
    if (value == "" || value ~ /^;/ || value ~ /^(""|'')[ \t]*(;.*)?$/) return line
    if (quoted) return name " = \"withheld"
    return name " = withheld"
}

function secret(name) {
    name = tolower(name)
    sub(/\][ \t]*$/, "", name)
    return name ~ /passw|passwd|_pw$|[.]pw$|secret|token|credential|api_?key|license/
}

function scrubbed(line,   out, low, at, start, length_, piece) {
    out = ""
    while (match(line, /:\/\/[^\/ \t:@]*:[^@ \t\/]+@/)) {
        at = index(substr(line, RSTART + 3), ":") + RSTART + 2
        out = out substr(line, 1, at) "withheld"
        line = substr(line, RSTART + RLENGTH - 1)
    }
    line = out line
    out = ""
    low = tolower(line)
    while (match(low, /((auth|password|passwd|passwort|pwd|secret|token|api_?key)(%5b[a-z0-9_]*%5d|\[[a-z0-9_]*\])?=|--(auth|password|passwd|pwd|secret|token)[ \t]+)("[^"]*"|'[^']*'|[^& \t;"',]+)/)) {
        start = RSTART; length_ = RLENGTH
        piece = substr(low, start, length_)
        match(piece, /=|[ \t]+/)
        out = out substr(line, 1, start + RSTART + RLENGTH - 2) "withheld"
        line = substr(line, start + length_)
        low = substr(low, start + length_)
    }
    return out line
}

# The command that sends mail: from the first word on that may be a password, nothing.
function mailer(value,   n, words, i, out, mark) {
    mark = value ~ /^"/ ? "\"" : value ~ /^'/ ? "'" : ""
    n = split(value, words, " ")
    out = words[1]
    for (i = 2; i <= n; i++) {
        if (words[i] !~ /^(-([tib]s?|o[a-z0-9][a-z0-9]?[a-z0-9]?|f)|[A-Za-z0-9._+-]+@[A-Za-z0-9.-]+)["']?$/)
            return out " (withheld)" mark
        out = out " " words[i]
    }
    return value
}
