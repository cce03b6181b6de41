for cache in /var/cache/dnf /var/cache/libdnf5; do
    [ -d "$cache" ] && find -H "$cache" -maxdepth 3 ! -name "*$newline*" \
        \( -type d -o -path '*/repodata/*' \) -print 2>/dev/null
done
