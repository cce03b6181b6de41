case ${1-} in
    --yes) act=yes more=${2-} ;;
    --undo) act=undo ;;
    '') ;;
    *) printf 'unknown option: %s; give --yes, --yes --more-packages or --undo, or nothing to see what would be done\n' "$1" >&2; exit 2 ;;
esac
case $more in
    '' | --more-packages) ;;
    *) printf 'unknown option: %s; what can stand behind --yes is --more-packages\n' "$more" >&2; exit 2 ;;
esac
