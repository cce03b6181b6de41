"""Real extension files, built from source: for Linux with PHP's own headers, for Windows with mingw."""

import shutil
import subprocess
from pathlib import Path

from debian_root import Root

from fundamentum.php_files.php_binaries import MODULE_ENTRY

MINGW = {64: "x86_64-w64-mingw32-gcc", 32: "i686-w64-mingw32-gcc"}
MODULE = """\
#include "php.h"
#ifdef DEBUGGING
#undef ZEND_BUILD_DEBUG
#define ZEND_BUILD_DEBUG ",debug"
#endif
static const zend_module_dep needs[] = { ZEND_MOD_REQUIRED("%(requires)s") ZEND_MOD_END };
zend_module_entry %(name)s_module_entry = {
    STANDARD_MODULE_HEADER_EX, NULL, needs, "%(name)s", NULL, NULL, NULL, NULL, NULL, NULL, "1.0", STANDARD_MODULE_PROPERTIES
};
ZEND_GET_MODULE(%(name)s)
"""
LOADER = """\
#include "php.h"
#include "zend_extensions.h"
#include <string.h>
static int startup(zend_extension *self) {
    zend_extension *first = (zend_extension *) zend_llist_get_first(&zend_extensions);
    if (strcmp(first->name, "Orrery Loader") != 0) {
        fprintf(stderr, "The Orrery Loader must appear as the first Zend extension\\n");
        return FAILURE;
    }
    return SUCCESS;
}
ZEND_DLEXPORT zend_extension_version_info extension_version_info = { ZEND_EXTENSION_API_NO, (char *) ZEND_EXTENSION_BUILD_ID };
ZEND_DLEXPORT zend_extension zend_extension_entry = {
    "Orrery Loader", "1.0", "The observatory", "http://localhost/", "2026", startup,
    NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, NULL, STANDARD_ZEND_EXTENSION_PROPERTIES
};
"""
WINDOWS = """\
struct entry {
    unsigned short size; unsigned int api; unsigned char debug, zts; void *ini, *deps; const char *name;
    void *more[12]; int number[6]; const char *build;
};
#define ENTRY(v, n) struct entry v = { %(size)d, %(api)s, 0, %(zts)d, 0, 0, n, {0}, {0}, "API%(api)s,%(ts)s,%(compiler)s" }
%(body)s
"""


def headers(root: Root, folder: Path) -> Path:
    """PHP 8.2's headers, taken out of their package; nothing is installed."""
    root.run("sh", "-ec", "cd /tmp && apt-get download -q php8.2-dev && mv php8.2-dev_*.deb dev.deb")
    subprocess.run(["dpkg-deb", "-x", str(root.path / "tmp/dev.deb"), str(folder)], check=True)
    return folder / "usr/include/php/20220829"


def build(source: str, target: Path, include: Path, *options: str) -> Path:
    """One shared object for Linux."""
    paths = [f"-I{include / part}" for part in ("", "main", "Zend", "TSRM")]
    command = ["gcc", "-shared", "-fPIC", "-w", "-O1", "-x", "c", "-", "-o", str(target), *paths, *options]
    subprocess.run(command, input=source, text=True, check=True, capture_output=True)
    return target


def build_windows(
    target: Path, body: str, api: str = "20230831", thread_safe: bool = False, compiler: str = "VS16", bits: int = 64
) -> Path:
    """One DLL (or, with a ``main``, a program) for Windows."""
    words = {
        "size": MODULE_ENTRY[bits][0],
        "api": api,
        "zts": thread_safe,
        "ts": "TS" if thread_safe else "NTS",
        "compiler": compiler,
        "body": body,
    }
    kind = [] if "main(" in body else ["-shared"]
    target.parent.mkdir(parents=True, exist_ok=True)
    command = [MINGW[bits], *kind, "-s", "-O1", "-x", "c", "-", "-o", str(target)]
    subprocess.run(command, input=WINDOWS % words, text=True, check=True, capture_output=True)
    return target


def missing() -> str | None:
    """The first compiler that is not here."""
    return next((name for name in ("gcc", *MINGW.values()) if not shutil.which(name)), None)
