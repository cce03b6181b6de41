# nginx's files: of its statements only those that tell which site is handed to what.

function nginx_kind(path) {
    return path ~ /^\/(etc|usr\/local(\/etc)?)\/nginx\// ? "nginx:" : ""
}

function nginx_begin() { nginx_text = ""; nginx_mark = ""; nginx_spans = 0 }

function nginx_filtered(line, kind,   n, i, c, out, more, kept, whole, less) {
    out = ""
    whole = less = 0
    more = gsub(/\r/, " ", line) # a line that ends otherwise than here is not to be changed
    n = length(line)
    for (i = 1; i <= n; i++) {
        c = substr(line, i, 1)
        if (nginx_mark != "") {
            nginx_text = nginx_text c
            if (c == "\\") { i++; nginx_text = nginx_text substr(line, i, 1) }
            else if (c == nginx_mark) nginx_mark = ""
        } else if (c == "#" && nginx_text ~ /(^|[ \t])$/) {
            if (out ~ /[^ \t]/) more = 1
            break
        } else if ((c == "\"" || c == "'") && nginx_text ~ /(^|[ \t])$/) {
            nginx_mark = c
            nginx_text = nginx_text c
        } else if (c == "{" && nginx_text ~ /\$$/) {
            nginx_text = nginx_text c
        } else if (c == "}" && nginx_text ~ /\$\{[A-Za-z0-9_]*$/) {
            nginx_text = nginx_text c
        } else if (c == "{" && nginx_text !~ /(^|[ \t])$/ && nginx_text ~ /~/) {
            nginx_text = nginx_text c
            nginx_depth++
        } else if (c == "}" && nginx_depth > 0) {
            nginx_text = nginx_text c
            nginx_depth--
        } else if (c == ";" || c == "{" || c == "}") {
            kept = nginx_kept(nginx_text, c)
            out = out kept c
            if (kept ~ /[^ \t]/) { if (kept == nginx_text) whole = 1; else less = 1 }
            if (nginx_spans || (whole && less)) more = 1
            nginx_text = ""
            nginx_spans = 0
        } else {
            nginx_text = nginx_text c
        }
    }
    if (nginx_mark == "" && nginx_text !~ /[^ \t]/) { # a margin belongs to no statement
        if (out != "") out = out nginx_text
        nginx_text = ""
    }
    if (nginx_text != "") {
        if (out ~ /[^ \t]/) more = 1
        nginx_text = nginx_text (nginx_mark != "" ? "\\n" : " ")
        nginx_spans = 1
    }
    return more ? out " #" : out # so that it is known that the line holds more, or begins before
}

function nginx_kept(text, ending,   word, value) {
    word = text
    sub(/^[ \t]+/, "", word); sub(/[ \t].*/, "", word)
    if (word == "") return text
    if (word ~ /^(user|server|location|upstream|include|root|server_name|fastcgi_pass|listen|ssl|client_max_body_size|fastcgi_read_timeout|proxy_read_timeout|client_body_temp_path|modsecurity|modsecurity_rules_file|index|try_files|satisfy|alias)$/) return text
    if (word ~ /^(allow|deny)$/) return text ~ /[ \t]all[ \t]*$/ ? text : " " word " noted"
    if (word == "proxy_pass") return scrubbed(text)
    if (word == "return" && match(text, /return[ \t]+[0-9]+/)) return " " substr(text, RSTART, RLENGTH)
    if (word == "proxy_set_header") return text ~ /^[ \t]*proxy_set_header[ \t]+Host[ \t]+[$][a-z_]+[ \t]*$/ ? text : " proxy_set_header noted x"
    if (word == "fastcgi_param") {
        value = text; sub(/^[ \t]*fastcgi_param[ \t]+/, "", value); sub(/[ \t].*/, "", value)
        if (value ~ /^(DOCUMENT_ROOT|SCRIPT_FILENAME)$/) return scrubbed(text)
        if (value !~ /^PHP_(ADMIN_)?VALUE$/) return " fastcgi_param " (value ~ /^[A-Za-z_]+$/ ? value : "noted") " x"
        return secret(text) ? " fastcgi_param " value " $withheld" : scrubbed(text)
    }
    if (word == "set") {
        value = text; sub(/^[ \t]*set[ \t]+[^ \t]+[ \t]*/, "", value)
        return value ~ /^["']?(unix:|[A-Za-z0-9.-]+:[0-9]+["']?[ \t]*$)/ ? text : " noted x"
    }
    return " " (word ~ /^[a-z_]+$/ ? word : "noted")
}
