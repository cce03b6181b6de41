cat /var/lib/dpkg/info/*php*.list 2>/dev/null >>"$stage/owned"
if [ -n "$commands" ]; then # indexes of commands; the file lists of the packages that the commands came with
    here /var/lib/apt/lists/*_cnf_Commands-*
    [ -d /var/lib/dpkg/info ] && for name in $commands; do
        for folder in /usr/local/bin /usr/bin /bin /usr/local/sbin /usr/sbin /sbin; do
            [ -x "$folder/$name" ] || continue
            real=$(readlink -f -- "$folder/$name")
            grep -lxF -e "$real" -e "${real#/usr}" -e "/usr$real" /var/lib/dpkg/info/*.list 2>/dev/null
            break
        done
    done
fi
