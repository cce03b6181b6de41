# Apache's files: of its lines only those that tell which site is handed to what.

function apache2_kind(path) {
    if (path ~ /\/apache2\/envvars$/) return "apache2:envvars"
    if (path ~ /\/\.htaccess$/) return "apache2:access"
    return path ~ /^\/(etc|usr\/local)\/(apache2|httpd)\// ? "apache2:" : ""
}

function apache2_begin() { apache2_continued = 0; apache2_kept = 1 }

function apache2_of_rule(line) { # what a rule changes for some requests
    return match(line, /[Cc][Tt][Ll]:[ \t]*([Rr]equest[Bb]ody([Ll]imit|[Aa]ccess=[Oo]n)|[Rr]ule[Ee]ngine=([Oo]n|[Dd]etection[Oo]nly))/) ? \
        " \"" substr(line, RSTART, RLENGTH) "\"" : ""
}

function apache2_filtered(line, kind,   word, first) {
    if (kind == "envvars") {
        if (line ~ /^[^#]*(PHPRC|PHP_INI_SCAN_DIR)=/) return exported(line)
        return line ~ /^[ \t]*(export[ \t]+)?APACHE_[A-Za-z_]*=/ ? scrubbed(line) : ""
    }
    if (apache2_continued) {
        apache2_continued = line ~ /\\$/
        return apache2_kept ? scrubbed(line) : apache2_of_rule(line) (apache2_continued ? "\\" : "")
    }
    apache2_continued = line ~ /\\$/
    apache2_kept = 1
    word = line
    sub(/^[ \t]*/, "", word)
    if (word ~ /^</) {
        first = word
        sub(/^<\/?/, "", first); sub(/[ \t>].*/, "", first)
        if (word ~ /^<\// || tolower(first) ~ /^(virtualhost|proxy|directory|directorymatch|location|locationmatch|files|filesmatch|ifmodule|ifdefine|ifversion|iffile|macro)$/)
            return scrubbed(line)
        if (line ~ /^[ \t]*<[Ii][Ff][ \t]+"-[fes] +%[{](REQUEST|SCRIPT)_FILENAME[}]"[ \t]*>[ \t]*$/) return line
        apache2_kept = 0
        return "<" first ">" (apache2_continued ? "\\" : "")
    }
    sub(/[ \t].*/, "", word)
    word = tolower(word)
    if (word ~ /^php_(admin_)?(value|flag)$/) {
        first = line
        sub(/^[ \t]*[^ \t]+[ \t]+/, "", first); sub(/[ \t].*/, "", first)
        if (!secret(first)) return scrubbed(line)
        apache2_kept = 0
        return word " " first " withheld" (apache2_continued ? " \\" : "")
    }
    if (word ~ /^(setenv|setenvif|setenvifnocase|proxyfcgisetenvif|unsetenv|fcgidinitialenv|defaultinitenv)$/ && line ~ /PHP_(ADMIN_)?VALUE|PHPRC|PHP_INI_SCAN_DIR/ && !secret(line))
        return scrubbed(line)
    if (word ~ /^(phpinidir|use|allowoverride|allowoverridelist|accessfilename|include|includeoptional|loadmodule|serverroot|servername|serveralias|documentroot|sethandler|addhandler|addtype|action|alias|aliasmatch|scriptalias|scriptaliasmatch|virtualdocumentroot|virtualdocumentrootip|rewriteengine|fcgidwrapper|fcgiwrapper|options|limitrequestbody|secruleengine|secrequestbodyaccess|secrequestbodylimit|timeout|proxytimeout|proxyset|fcgidmaxrequestlen|fcgidiotimeout|fcgidbusytimeout|sslengine|user|group|listen|proxypreservehost|directoryindex|authmerging|order|satisfy)$/ ||
        (word == "define" && !secret(line)) || (word ~ /^proxypass(match)?$/ && line ~ /fcgi:|https?:/))
        return scrubbed(line)
    if (word ~ /^(require|allow|deny)$/) # who may ask is nobody's business but whether anybody may
        return tolower(line) ~ /^[ \t]*(require[ \t]+all|(allow|deny)[ \t]+from[ \t]+all)[ \t]*/ ? line : word " noted"
    if (word == "rewriterule" && line ~ /fcgi:/) return scrubbed(line) # which hands on
    if (word ~ /^(fallbackresource|rewriterule|rewritecond|redirect|redirectmatch|errordocument)$/) {
        apache2_kept = 0
        return word " noted" (apache2_continued ? " \\" : "")
    }
    apache2_kept = 0
    if (kind != "access" && word ~ /^(proxypass.*|define|.*env|.*env(if)?(nocase)?|php_.*)$/) return apache2_continued ? "\\" : ""
    if (word ~ /^[a-z][a-z0-9_]*$/) # whether Apache takes it decides over the site
        return word " noted" apache2_of_rule(line) (apache2_continued ? " \\" : "")
    return apache2_continued ? "\\" : ""
}
