# A database of an application.  Statements go in by standard input, so that no list of processes shows a password.
administrate() { # PRODUCT: carries out statements as the server's own administrator
    case $1 in
        postgresql) (cd / && setpriv --reuid postgres --regid postgres --init-groups -- psql -X -A -t -q -v ON_ERROR_STOP=1 -d postgres) ;;
        *) "$(client)" --batch --skip-column-names ;;
    esac
}

client() { command -v mariadb || echo mysql; }

counted() { # PRODUCT STATEMENT: the number that it yields
    printf '%s\n' "$2" | administrate "$1"
}

make_database() { # PRODUCT NAME CHARACTER-SET FILE given|made APPLICATION
    product=$1 database=$2 set=$3 file=$4
    scratch
    if ! counted "$product" 'SELECT 1;' >"$work/answer" 2>"$work/why"; then
        if [ "$act" = no ]; then
            say "database $database: making it with its user, once $product answers"
            return 0
        fi
        sed 's/^/database: /' "$work/why" >&2
        say "database $database: $product does not answer its administrator here" >&2
        exit 1
    fi
    there_already "$product" "$database" >"$work/there"
    read -r has_database has_user has_rights <"$work/there"
    if [ "$has_database$has_user$has_rights" = 111 ]; then
        say "database $database: there, and its user has it"
    elif [ "$act" = no ]; then
        say "database $database: making it, or its user; the password is in $file"
        return 0
    else
        missing_made "$5"
    fi
    say "$6: so: database-name:$database (with its user $database)"
}

there_already() { # PRODUCT NAME: 1 or 0 for the database, the user, and his rights on it
    case $1 in
        postgresql)
            is_there=$(counted "$1" "SELECT count(*) FROM pg_database WHERE datname = '$2';")
            is_user=$(counted "$1" "SELECT count(*) FROM pg_roles WHERE rolname = '$2' AND rolcanlogin;")
            owns=$(counted "$1" "SELECT count(*) FROM pg_database d JOIN pg_roles r ON r.oid = d.datdba WHERE d.datname = '$2' AND r.rolname = '$2';")
            ;;
        *)
            is_there=$(counted "$1" "SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '$2';")
            is_user=$(counted "$1" "SELECT COUNT(*) FROM mysql.user WHERE User = '$2' AND Host = 'localhost';")
            owns=$(counted "$1" "SELECT COUNT(*) FROM mysql.db WHERE User = '$2' AND Host = 'localhost' AND REPLACE(Db, '\\\\', '') = '$2' AND Insert_priv = 'Y' AND Create_priv = 'Y' AND Drop_priv = 'Y';")
            ;;
    esac
    printf '%s %s %s\n' "$is_there" "$is_user" "$owns"
}

missing_made() { # given|made
    if [ "$has_user" = 0 ]; then
        password_at_hand "$1"
    else
        say "database $database: its user is there already, and keeps his password"
    fi
    say "database $database: making it, or its user; the password is in $file"
    [ "$has_user" = 1 ] || back "$(undone_by "DROP USER '$database'@'localhost';" "DROP ROLE \"$database\";")"
    [ "$has_database" = 1 ] || back "$(quoted_empty) && $(undone_by "DROP DATABASE \`$database\`;" "DROP DATABASE \"$database\";") || echo 'database $database: kept, there is something in it'"
    statements | administrate "$product"
    changed=yes
}

# shellcheck disable=SC2016  # for another shell, or no expression
undone_by() { # STATEMENT STATEMENT: the command that carries one out, for this product
    case $product in
        postgresql) printf 'cd / && printf "%%s\\n" %s | setpriv --reuid postgres --regid postgres --init-groups -- psql -X -q -d postgres' "$(quoted "$2")" ;;
        *) printf 'printf "%%s\\n" %s | %s' "$(quoted "$1")" "$(client)" ;;
    esac
}

# shellcheck disable=SC2016  # for another shell, or no expression
quoted_empty() { # the command that tells whether there is nothing in the database
    case $product in
        postgresql) printf '[ "$(cd / && setpriv --reuid postgres --regid postgres --init-groups -- psql -X -A -t -d %s -c "SELECT count(*) FROM information_schema.tables WHERE table_schema NOT IN ('\''pg_catalog'\'', '\''information_schema'\'')")" = 0 ]' "$database" ;;
        *) printf '[ "$(%s --batch --skip-column-names -e "SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = '\''%s'\''")" = 0 ]' "$(client)" "$database" ;;
    esac
}

password_at_hand() { # given|made: in the file, which only root may read
    if [ ! -e "$file" ] && [ "$1" = given ]; then
        say "$file is not there, and has to hold the password of $database" >&2
        exit 1
    elif [ ! -e "$file" ]; then
        (umask 077 && set -C && LC_ALL=C tr -dc 'A-Za-z0-9' </dev/urandom | head -c 24 >"$file" && echo >>"$file")
    fi
    if [ -L "$file" ] || [ "$(stat -c '%u' -- "$file")" -ne 0 ]; then
        say "$file is not root's own file" >&2
        exit 1
    fi
    case $(stat -c '%a' -- "$file") in
        *00) ;;
        *)
            say "$file may be read by others than root: chmod 600 $file" >&2
            exit 1
            ;;
    esac
}

# shellcheck disable=SC2016  # for another shell, or no expression
statements() {
    secret=
    [ "$has_user" = 1 ] || IFS= read -r secret <"$file" || [ -n "$secret" ]
    case $product in
        postgresql)
            secret=$(printf '%s' "$secret" | sed "s/'/''/g")
            [ "$has_user" = 1 ] || printf 'CREATE ROLE "%s" LOGIN PASSWORD '\''%s'\'';\n' "$database" "$secret"
            [ "$has_database" = 1 ] || printf 'CREATE DATABASE "%s" OWNER "%s"%s;\n' "$database" "$database" "${set:+ ENCODING '$set' TEMPLATE template0}"
            [ "$has_database" = 0 ] || printf 'ALTER DATABASE "%s" OWNER TO "%s";\n' "$database" "$database"
            ;;
        *)
            secret=$(printf '%s' "$secret" | sed "s/[\\\\']/\\\\&/g")
            printf 'CREATE DATABASE IF NOT EXISTS `%s`%s;\n' "$database" "${set:+ CHARACTER SET $set}"
            [ "$has_user" = 1 ] || printf 'CREATE USER '\''%s'\''@'\''localhost'\'' IDENTIFIED BY '\''%s'\'';\n' "$database" "$secret"
            printf 'GRANT ALL PRIVILEGES ON `%s`.* TO '\''%s'\''@'\''localhost'\'';\n' "$(printf '%s' "$database" | sed 's/_/\\_/g')" "$database"
            ;;
    esac
}
