"""The archives in which PHP and its extensions come for Windows, by name: branch, thread-safety, compiler, processor.

Source: the names of the archives on PHP's own pages for Windows, and php.net, "Which version do I choose?".
"""

from typing import Final

from fundamentum.catalog import branch_key
from fundamentum.model.php import Branch

_COMPILERS: Final = (("8.4", "vs17"), ("8.0", "vs16"), ("7.2", "vc15"), ("7.0", "vc14"), ("5.5", "vc11"))
"""The first branch that was built with each compiler, the newest first."""
_PROCESSORS: Final = {"x86-64": "x64", "x86": "x86", "ARM64": "arm64"}
SHIPPED: Final = frozenset(
    "bz2 com_dotnet curl dba dl_test enchant exif ffi fileinfo ftp gd gettext gmp intl ldap mbstring mysqli odbc "
    "opcache openssl pdo_firebird pdo_mysql pdo_odbc pdo_pgsql pdo_sqlite pgsql shmop snmp soap sockets sodium sqlite3 "
    "sysvshm tidy xsl zend_test zip".split()
)
"""Extensions whose files are in PHP's own archives."""


COMPILED_IN: Final = frozenset(
    "bcmath calendar ctype date dom filter hash iconv json libxml mysqlnd pcre pdo phar random readline reflection "
    "session simplexml spl standard tokenizer xml xmlreader xmlwriter zlib".split()
)
"""Extensions that PHP's own builds for Windows have inside."""


def compiler_of(branch: str) -> str:
    """The compiler with which a branch is built."""
    return next((name for first, name in _COMPILERS if branch_key(branch) >= branch_key(first)), "vc11")


def php_archive(version: str, branch: str, thread_safe: bool, processor: str, compiler: str = "") -> str:
    """``php-8.3.12-nts-Win32-vs16-x64.zip``; the thread-safe one does not say so in its name."""
    kind = "" if thread_safe else "nts-"
    return (
        f"php-{version}-{kind}Win32-{compiler.lower() or compiler_of(branch)}-{_PROCESSORS.get(processor, 'x64')}.zip"
    )


def extension_archive(name: str, php: Branch) -> str:
    """``php_redis-VERSION-8.3-nts-vs16-x64.zip``."""
    kind = "ts" if php.thread_safe else "nts"
    compiler = php.compiler.lower() or compiler_of(php.branch)
    return f"php_{name}-VERSION-{php.branch}-{kind}-{compiler}-{_PROCESSORS.get(php.processor, 'x64')}.zip"


def extension_from(name: str, php: Branch, version: str) -> str:
    """Where the file of an extension comes from, and where it goes."""
    file, folder = f"php_{name}.dll", php.extension_dir
    if name in COMPILED_IN:
        archive = php_archive(version, php.branch, php.thread_safe, php.processor, php.compiler)
        return f"take another build: PHP's own, {archive}, has {name} inside"
    if name in SHIPPED:
        archive = php_archive(version, php.branch, php.thread_safe, php.processor, php.compiler)
        return f"take ext\\{file} from PHP's own archive, {archive}, and put it into {folder}"
    return f"get {extension_archive(name, php)} from its maker, and put its {file} into {folder}"


def php_from(branch: str, thread_safe: bool, processor: str) -> str:
    """Where a PHP comes from."""
    archive = php_archive(f"{branch}.*", branch, thread_safe, processor)
    kind = "thread-safe, for a module" if thread_safe else "not thread-safe, for FastCGI"
    return f"get PHP {branch} ({kind}): {archive}, the newest there is, and unpack it into a directory of its own"
