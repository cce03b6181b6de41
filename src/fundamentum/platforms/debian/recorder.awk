# Files of the Debian family: of which kind each is, and what of it may leave the server.

function debian_kind(path) {
    if (path ~ /\/(php-?[0-9.]*(-?(fpm|cgi)-?[0-9.]*)?|libphp[^\/]*\.so)$/ && path !~ /^\/(usr\/local|opt)\// &&
        ("/var/lib/dpkg/status" in done)) return "later:programs" # what it was built with is known
    if (path ~ /^\/var\/lib\/apt\/lists\/.*_Packages$/) return "later:indexes"
    if (path ~ /^\/var\/lib\/apt\/lists\/.*_Packages\.(gz|xz|lz4)$/) return "later:whole"
    if (path ~ /^\/var\/lib\/apt\/lists\/.*Release$/) return "debian:release"
    if (path == "/var/lib/dpkg/status") return "debian:status"
    if (path ~ /\/dpkg\/info\/.*\.list$/) return "debian:list"
    if (path ~ /^\/etc\/apt\/preferences/) return "plain"
    if (path ~ /^\/etc\/apt\/apt\.conf/) return "debian:options"
    if (path ~ /_cnf_Commands-[a-z0-9]+$/) return "plain"
    if (path ~ /_cnf_Commands-[a-z0-9]+\.(gz|xz|lz4)$/) return "later:whole"
    return path ~ /^\/etc\/php/ ? "ini" : ""
}

function debian_begin() { debian_kept = 1 }

function debian_filtered(line, kind) {
    if (kind == "options") return tolower(line) ~ /^[ \t]*apt::default-release[ \t]/ ? line : ""
    if (kind == "list") return line ~ /^\/(usr\/lib(64)?\/php|opt|usr\/local|bin|sbin|usr\/bin|usr\/sbin)\// ? line : "\001"
    if (kind == "status") {
        if (line == "" || line ~ /^(Package|Status|Version|Architecture|Provides|Pre-Depends|Depends):/) { debian_kept = 1; return line }
        if (line !~ /^[ \t]/) debian_kept = 0
        return debian_kept ? line : "\001"
    }
    if (line ~ /^(MD5Sum|SHA1|SHA256|SHA512):/) { debian_kept = 2; return line ~ /^SHA256:/ ? line : "\001" }
    if (line ~ /^[^ ]/) debian_kept = 1
    return debian_kept == 1 || line ~ /binary-[a-z0-9]+\/Packages$/ ? line : "\001"
}
