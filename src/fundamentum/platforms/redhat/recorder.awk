# Files of the RHEL family: of which kind each is, and what of it may leave the server.

function redhat_kind(path) {
    if (path ~ /\/repodata\/(repomd\.xml|[^\/]*(primary|modules)[^\/]*)$/ && path !~ /primary_db/) return "later:whole"
    if (path ~ /^\/etc\/dnf\/modules\.d\//) return "plain"
    return path ~ /\.repo$/ || path == "/etc/dnf/dnf.conf" ? "redhat:sources" : ""
}

function redhat_filtered(line, kind,   key) {
    key = tolower(line)
    return key ~ /^[ \t]*(\[|name[ \t]*=|enabled[ \t]*=|priority[ \t]*=|exclude(pkgs)?[ \t]*=|module_hotfixes[ \t]*=)/ ? line : ""
}
