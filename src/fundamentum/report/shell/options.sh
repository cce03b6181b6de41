case ${1-} in
    --yes) act=yes ;;
    --undo) act=undo ;;
    '') ;;
    *) printf 'unknown option: %s; give --yes or --undo, or nothing to see what would be done\n' "$1" >&2; exit 2 ;;
esac
