# Package indexes: what concerns PHP, what is installed and may have to come along, and what all that depends on.
if [ -s "$stage/indexes" ]; then
    # shellcheck disable=SC2016  # a program for awk
    cut -f 2 "$stage/indexes" | tr '\n' '\000' | xargs -0 awk -v packages="$packages" '
        BEGIN {
            while ((getline line < "/var/lib/dpkg/status") > 0) if (line ~ /^Package: /) also[substr(line, 10)] = 1
            RS = ""; FS = "\n"; count = split(packages, parts, " "); for (i = 1; i <= count; i++) also[parts[i]] = 1
        }
        {
            name = ""; relations = ""
            for (i = 1; i <= NF; i++) {
                if ($i ~ /^Package: /) name = substr($i, 10)
                else if ($i ~ /^Provides: /) {
                    count = split(substr($i, 11), parts, ",")
                    for (j = 1; j <= count; j++) {
                        sub(/^ +/, "", parts[j]); sub(/[ (].*/, "", parts[j])
                        provided[parts[j]] = provided[parts[j]] " " name
                    }
                }
                else if ($i ~ /^(Pre-Depends|Depends|Recommends): /) { sub(/^[^:]*: /, "", $i); relations = relations "," $i }
            }
            if (relations != "") needs[name] = needs[name] relations
            there[name] = 1
            if (name ~ /^(php[0-9]|libapache2-mod-php[0-9]|libphp[0-9])/ || name ~ /php-common$/ ||
                (name ~ /php/ && $0 ~ /phpapi-/) || (name in also)) { if (!wanted[name]++) todo[++last] = name }
        }
        END {
            for (next_one = 1; next_one <= last; next_one++) {
                print todo[next_one]
                count = split(needs[todo[next_one]], parts, /[,|]/)
                for (i = 1; i <= count; i++) {
                    name = parts[i]
                    sub(/^ +/, "", name)
                    sub(/[ :(].*/, "", name)
                    if (name != "" && !wanted[name]++) todo[++last] = name
                    if (!(name in there)) {
                        many = split(provided[name], givers, " ")
                        for (j = 1; j <= many; j++) if (!wanted[givers[j]]++) todo[++last] = givers[j]
                    }
                }
            }
        }' >"$stage/wanted"
    while IFS='	' read -r number path; do
        if [ -n "$(tail -c 1 "$path" 2>/dev/null | tr -d '\000')" ]; then
            cat <"$path" >"$stage/content/$number"
        else
            awk 'FILENAME == ARGV[1] { wanted[$0] = 1; next }
                FNR == 1 { RS = "" }
                { name = $0; sub(/^(.*\n)?Package: /, "", name); sub(/\n.*/, "", name) }
                name in wanted { print $0 "\n" }' "$stage/wanted" "$path" >"$stage/content/$number"
        fi
    done <"$stage/indexes"
fi
rm -f "$stage/indexes" "$stage/wanted"
