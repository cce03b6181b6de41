# A PHP that was compiled here names its own directories.
for program in /usr/local/*bin/php* /usr/local/*/*bin/php* /opt/*/*bin/php*; do
    [ -f "$program" ] || continue
    tr '\000' '\n' <"$program" | grep -E '^/[!-~]+$' | sort -u | head -n 2000 | while IFS= read -r folder; do
        [ -d "$folder" ] && [ "$folder" != / ] && for file in "$folder"/*.ini "$folder"/*.so "$folder"/php-fpm.conf; do
            [ -f "$file" ] && here "$folder" "$folder"/* && case $folder in
                */etc*) below '*.conf' "$folder" ;;
            esac && break
        done
    done
done
