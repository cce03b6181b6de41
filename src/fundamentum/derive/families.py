"""Extensions that do the same for an application, the words by which people name what they are for; limits of PHP, and
functions that hosts switch off."""

from collections.abc import Mapping
from typing import Final

DATABASES: Final = (
    "pdo_mysql", "mysqli", "pdo_pgsql", "pgsql", "pdo_sqlite", "sqlite3", "pdo_oci", "oci8", "pdo_sqlsrv", "sqlsrv",
    "pdo_dblib", "pdo_odbc", "odbc", "pdo_firebird", "interbase", "ibm_db2", "pdo_ibm", "cubrid", "mysql", "mssql",
    "sybase_ct",
)  # fmt: skip
FAMILIES: Final[Mapping[str, tuple[str, ...]]] = {
    "databases": DATABASES,
    "images": ("gd", "imagick", "gmagick"),
    "large numbers": ("gmp", "bcmath"),
    "caches": ("apcu", "apc", "memcached", "memcache", "redis", "yac", "wincache", "xcache"),
    "spelling": ("pspell", "enchant"),
}
"""Extensions that do the same for an application, so that code which can use several needs any one."""
TOOLS: Final = frozenset(
    "xdebug pcov uopz ast tideways_xhprof xhprof excimer wmerrors pinba xcache apc suhosin ice guestfs_php psr "
    "eaccelerator".split()
)
"""Tools for developers, and extensions that no application is helped by: servers for visitors are without them."""
CHOOSABLE: Final = frozenset(
    {name for family in FAMILIES.values() for name in family}
    | {"ldap", "imap", "ssh2", "ftp", "snmp", "soap", "mongodb", "amqp", "curl", "oauth", "radius", "gearman", "stomp",
       "solr", "xmlrpc", "dba", "bz2", "zlib", "zip", "openssl", "sodium", "mcrypt", "sysvshm", "sysvsem", "shmop",
       "gettext", "intl", "tidy", "redis", "gnupg", "smbclient", "imagick", "sockets", "iconv", "mbstring", "pcntl"}
)  # fmt: skip
"""Extensions that code is written around: a class or file named after one, beside its alternatives, is a driver."""
ASIDE: Final = frozenset(
    "amqp enchant ftp gearman gnupg imap ldap memcache memcached mongodb oauth pspell radius redis smbclient snmp solr "
    "ssh2 stomp".split()
)
"""Extensions for something that a program is set up to work with, or not."""
LIVE_ON: Final = frozenset({"imap", "interbase", "mcrypt", "oci8", "pdo_oci", "pspell", "xmlrpc"})
"""Gone from PHP itself, and alive as separate packages."""
ALIASES: Final = {
    "pdo": ("mysql", "mariadb", "postgres", "pgsql", "postgresql", "postgre", "sqlite", "oracle", "mssql"),
    "mysqli": ("mysql", "mariadb"),
    "pdo_mysql": ("mysql", "mariadb"),
    "mysql": ("mysql",),
    "pgsql": ("postgres", "pgsql", "postgresql", "postgre"),
    "pdo_pgsql": ("postgres", "pgsql", "postgresql", "postgre"),
    "sqlite3": ("sqlite",),
    "pdo_sqlite": ("sqlite",),
    "apcu": ("apc",),
    "memcached": ("memcache",),
    "memcache": ("memcache",),
    "imagick": ("imagick", "imagemagick"),
    "dom": ("dom", "xml", "html"),
    "simplexml": ("simplexml", "xml", "rss"),
    "xml": ("xml", "rss"),
    "xmlreader": ("xml",),
    "uuid": ("uuid",),
    "gmagick": ("gmagick", "graphicsmagick"),
    "openssl": ("openssl", "ssl"),
    "oci8": ("oci", "oracle"),
    "interbase": ("ibase", "interbase", "firebird"),
    "pdo_firebird": ("firebird",),
    "pdo_dblib": ("dblib", "mssql", "sybase"),
    "pdo_odbc": ("odbc",),
    "ssh2": ("ssh", "sftp"),
    "zlib": ("zlib", "gzip", "gz", "deflate"),
    "bz2": ("bz2", "bzip"),
    "gettext": ("gettext",),
    "mongodb": ("mongo",),
    "xmlwriter": ("xml", "svg"),
}

LIMITS: Final = frozenset(
    "memory_limit max_execution_time max_input_time max_input_vars upload_max_filesize post_max_size "
    "max_file_uploads pcre.backtrack_limit pcre.recursion_limit default_socket_timeout".split()
)
"""Directives of which more is better, so that a value which is set or compared is the least that is wanted."""
COMPARED: Final = frozenset(
    "session.gc_maxlifetime opcache.memory_consumption opcache.interned_strings_buffer opcache.max_accelerated_files "
    "opcache.jit_buffer_size apc.shm_size realpath_cache_size realpath_cache_ttl max_input_nesting_level".split()
)
"""The same, but only where a value is compared: a program that sets one has it, or sets what nothing depends on."""

ZONE: Final = "date.timezone"
SWITCHES: Final[Mapping[str, bool]] = {
    **dict.fromkeys(
        "allow_url_fopen file_uploads opcache.enable opcache.save_comments session.use_cookies apc.enabled "
        "session.use_only_cookies short_open_tag date.timezone phar.readonly".split(),
        True,
    ),
    **dict.fromkeys(
        "allow_url_include implicit_flush mbstring.encoding_translation output_buffering register_argc_argv "
        "session.auto_start session.use_trans_sid zlib.output_compression mbstring.func_overload "
        "session.use_strict_mode session.cookie_httponly session.cookie_secure".split(),
        False,
    ),
}
"""Those on which a program can depend, as they are where nobody sets them; others concern what is shown or logged."""
TEXTS: Final[Mapping[str, tuple[str, str, str]]] = {
    "open_basedir": ("", "/elsewhere", "unset"),
    "session.save_handler": ("files", "elsewhere", "= files"),
    "session.save_path": ("/var/lib/php/sessions", "", "set"),
    "default_charset": ("UTF-8", "ISO-8859-1", "= UTF-8"),
    "sendmail_path": ("/usr/sbin/sendmail -t -i", "", "set"),
}
"""Directives that hold a text: as usual, otherwise, and the condition that a program has which stops then."""

SWITCHED_OFF: Final = frozenset(
    "exec shell_exec system passthru popen proc_open proc_get_status proc_terminate mail putenv set_time_limit "
    "symlink link readlink fsockopen pfsockopen stream_socket_client stream_socket_server parse_ini_file "
    "show_source escapeshellarg escapeshellcmd ignore_user_abort disk_free_space chown chgrp glob scandir".split()
)
"""Functions that are in every PHP and that hosts switch off."""


def words_for(extension: str) -> tuple[str, ...]:
    """The words by which people name what an extension is for: file names, class names, settings."""
    return tuple(dict.fromkeys((*ALIASES.get(extension, ()), extension.removeprefix("pdo_"))))


def rivals(extension: str) -> set[str]:
    """The words of extensions that do the same."""
    own = words_for(extension)
    return {
        word
        for family in FAMILIES.values()
        if extension in family
        for name in family
        for word in words_for(name)
        if word not in own
    }
