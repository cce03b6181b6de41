"""Lines of configuration that may be repeated in a plan, Apache's language, and Apache on Windows."""

from pathlib import Path
from typing import NoReturn

import pytest

from fundamentum.hosts.directory import DirectoryHost
from fundamentum.hosts.windows_directory import WindowsHost
from fundamentum.model.origin import Origin
from fundamentum.webservers import webserver
from fundamentum.webservers.apache2 import reading as apache
from fundamentum.webservers.apache2.lines import Reader, lines_of
from fundamentum.webservers.handoffs import Files, spot
from tests.small_root import write

SHOWN = [  # a line, whether a plan may repeat it
    ("client_max_body_size 5m;", True), ("    root /srv/a; index index.php;  # plates", True), ("root /srv; fastcgi_param A b;", False),
    ("client_max_body_size 5m; # password = x", False), ("client_max_body_size 5m; # password=hunter2", False), ("root http://ida:hunter2@x/;", False),
    ("", True), ("LimitRequestBody 5", False), ("root /srv; # " + "x" * 1000, False), ("root \x1b[31m;", False),
]  # fmt: skip


@pytest.mark.parametrize(("line", "is_shown"), SHOWN)
def test_lines_that_may_be_shown(tmp_path: Path, line: str, is_shown: bool) -> None:
    write(tmp_path, {"x.conf": f"first\n{line}\n"})
    found = spot(DirectoryHost(tmp_path, "x"), Origin("/x.conf", 2), webserver("nginx").harmless)
    assert found
    assert (found.file, found.line, found.text) == ("/x.conf", 2, line if is_shown else "")


def test_where_no_line_can_be_named(tmp_path: Path) -> None:
    write(tmp_path, {"a b;c.conf": "root x;\n", "x.conf": "root x;\n"})
    host, harmless = DirectoryHost(tmp_path, "x"), webserver("nginx").harmless
    assert spot(host, Origin("/a b;c.conf", 1), harmless) is None
    assert spot(host, Origin("/x.conf"), harmless) is None
    assert (spot(host, Origin("/x.conf", 9), harmless) or found_nothing()).text == ""


def found_nothing() -> NoReturn:
    raise AssertionError


LANGUAGE = """\
Define PLACE /srv/a
LoadModule dir_module modules/mod_dir.so
# comment
<IfModule mod_dir.c>
DirectoryIndex one \\
    two
</IfModule>
<IfModule !mod_dir.c>
Lost 1
</IfModule>
<IfDefine PLACE>
DocumentRoot "${PLACE}/x y"
</IfDefine>
<IfDefine !PLACE>
Lost 2
<IfModule mod_dir.c>
Lost 3
</IfModule>
</IfDefine>
<VirtualHost *:80>
<Directory '/srv'>
Inner ${NOTHING}
</Directory>
Outer
</VirtualHost>
Include more/*.conf
"""


def test_apaches_language(tmp_path: Path) -> None:
    write(
        tmp_path,
        {
            "etc/apache2/apache2.conf": LANGUAGE,
            "etc/apache2/more/a.conf": "Included\n",
            "etc/apache2/envvars": "export APACHE_X=1\n",
        },
    )
    reader = Reader(Files(DirectoryHost(tmp_path, "x"), "Apache"), "/etc/apache2")
    lines = list(reader.lines("/etc/apache2/apache2.conf", (), 0))
    assert [(line.name, line.words) for line in lines] == [
        ("directoryindex", ("one", "two")), ("documentroot", ("/srv/a/x y",)), ("inner", ("${NOTHING}",)), ("outer", ()), ("included", ()),
    ]  # fmt: skip
    assert [str(line.origin) for line in lines[:2]] == ["/etc/apache2/apache2.conf:5", "/etc/apache2/apache2.conf:12"]
    inner, outer = lines[2], lines[3]
    assert [section.kind for section in inner.inside] == ["virtualhost", "directory"]
    assert (inner.within("directory") or found_nothing()).words == "/srv"
    assert outer.within("directory") is None and outer.within("virtualhost")
    assert (reader.modules, reader.defines["APACHE_X"]) == ({"dir_module": "modules/mod_dir.so"}, "1")
    plain = list(lines_of("/x", '<Files a>\n<If "x">\nA 1\n</If>\nB 2\n</Files>\nC "3 4"\n', lambda *_: True))
    assert [(line.name, line.words, [section.kind for section in line.inside]) for line in plain] == [
        ("<files", ("a",), []),
        ("<if", ("x",), ["files"]),
        ("a", ("1",), ["files", "if"]),
        ("b", ("2",), ["files"]),
        ("c", ("3 4",), []),
    ]


def test_apache_on_windows(tmp_path: Path) -> None:
    conf = 'LoadModule php_module "C:/bundle/php/php8apache2_4.dll"\nDocumentRoot "C:/bundle/www"\nAddHandler application/x-httpd-php .php\n'
    write(
        tmp_path,
        {
            "bundle/apache/conf/httpd.conf": conf,
            "bundle/php/php8apache2_4.dll": "",
            "bundle/www/index.php": "",
            "bundle/other/httpd.conf": conf,
        },
    )
    handoffs, files, _ = apache.read(WindowsHost(tmp_path, "x"))
    assert files == ["/bundle/apache/conf/httpd.conf"]
    assert [(handoff.kind, handoff.target, handoff.root) for handoff in handoffs] == [
        ("module", "/bundle/php/php8apache2_4.dll", "/bundle/www")
    ]


@pytest.mark.parametrize(
    ("written", "words"),
    [
        ("php_value a b", ("a", "b")),
        ('php_value a "b c"', ("a", "b c")),
        ('php_value a "b\\"c"', ("a", 'b"c')),
        ('php_value a "b\\\\c"', ("a", "b\\c")),
        ('php_value a "b\\.c"', ("a", "b\\.c")),
        ("php_value a 'b\"c'", ("a", 'b"c')),
        ('php_value a b\\"c', ("a", 'b\\"c')),
        ('php_value a ""', ("a", "")),
    ],
)
def test_words_in_quotes(written: str, words: tuple[str, ...]) -> None:
    (line,) = lines_of("x", written + "\n", lambda kind, condition: True)
    assert line.words == words
