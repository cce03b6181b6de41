"""The rules about numbers, ini files and special values, put to the real PHP."""

import json
import random
from collections.abc import Callable

import pytest
from debian_root import Root

from fundamentum.catalog.quantity import quantity, switch
from fundamentum.php_files.ini import IniFile, parse
from tests.tables import INI, QUANTITIES

pytestmark = pytest.mark.real
WORDS = [
    "x",
    "a b",
    "=",
    " = ",
    "\n",
    ";",
    " ; c",
    '"',
    '"x y"',
    "'q'",
    "on",
    "Off",
    "yes",
    "none",
    "E_ALL",
    "E_ALL & ~E_NOTICE",
    "|",
    "~",
    "!",
    "(",
    ")",
    "128M",
    "-1",
    "1.5",
    "$x",
    "${FOO}",
    "}",
    "{",
    " ",
    "\t",
    "\\",
    "/usr/lib",
    "a:b",
    ",",
    "#c",
    "é",
    "@",
    "<",
    "%",
    "1",
]


def php(root: Root, code: str, given: object) -> object:
    program = f"$in = json_decode(stream_get_contents(STDIN), true); echo json_encode({code});"
    return json.loads(
        root.run(
            "php8.2", "-d", "display_errors=0", "-d", "log_errors=0", "-r", program, stdin=json.dumps(given), FOO="bar"
        )
    )


def test_quantities(bookworm: Root) -> None:
    texts = [text for text, _ in QUANTITIES]
    assert php(bookworm, "array_map(fn($t) => @ini_parse_quantity($t), $in)", texts) == [
        quantity(text).number for text in texts
    ]


def test_quantities_made_at_random(bookworm: Root) -> None:
    source = random.Random(7)
    texts = [
        "".join(source.choice("0123456789 xXbBoOkKmMgG.+-BT\t") for _ in range(source.randint(0, 6)))
        for _ in range(3000)
    ]
    texts = [text for text in texts if "0" not in text[:3] or text.strip()[:1] not in "0+-"]  # bases: see the table
    assert php(bookworm, "array_map(fn($t) => @ini_parse_quantity($t), $in)", texts) == [
        quantity(text).number for text in texts
    ]


def test_switches(bookworm: Root) -> None:
    texts = ["1", "0", "", "on", "Off", "yes", "no", "true", "none", "2", "-1", "x", "0x1", " 1"]
    # This function tells what PHP made of the directive, not the text it was given.
    code = "array_map(function($t) { ini_set('ignore_user_abort', $t); return (bool) ignore_user_abort(); }, $in)"
    assert php(bookworm, code, texts) == [switch(text) for text in texts]


def as_php(file: IniFile) -> dict[str, str | None] | None:
    return None if file.broken_at else {entry.name: entry.value for entry in file.entries}


def ini_strings(root: Root, texts: list[str]) -> list[dict[str, str] | None]:
    code = "array_map(function($t) { $v = @parse_ini_string($t); return $v === false ? null : array_map(null, array_keys($v), array_values($v)); }, $in)"
    found = php(root, code, texts)
    assert isinstance(found, list)
    return [None if pairs is None else {str(name): value for name, value in pairs} for pairs in found]


def test_the_table_of_ini_texts_is_what_php_says(bookworm: Root) -> None:
    assert ini_strings(bookworm, [text for text, _ in INI]) == [expected for _, expected in INI]


def test_ini_texts_made_at_random(bookworm: Root) -> None:
    source = random.Random(11)
    pick: Callable[[], str] = lambda: "".join(source.choice(WORDS) for _ in range(source.randint(0, 4)))  # noqa: E731
    texts = [f"first = {pick()}\nsecond={pick()}\nthird = 3\n" for _ in range(4000)]
    ours = [as_php(parse(text, {"E_ALL": "32767", "E_NOTICE": "8"}, {"FOO": "bar"}.get)) for text in texts]
    different = [
        (text, mine, theirs)
        for text, mine, theirs in zip(texts, ours, ini_strings(bookworm, texts), strict=True)
        if mine != theirs
    ]
    assert not different, f"{len(different)} of {len(texts)}: {different[:5]}"


UPLOAD = '--B\r\nContent-Disposition: form-data; name="f"; filename="a.bin"\r\n\r\n' + "x" * 5000 + "\r\n--B--\r\n"


@pytest.mark.parametrize(
    ("settings", "accepted"),
    [
        ({"upload_max_filesize": "0"}, True),
        ({"upload_max_filesize": "4K"}, False),
        ({"post_max_size": "0"}, True),
        ({"post_max_size": "4K"}, False),
        ({"max_file_uploads": "0"}, False),
    ],
)
def test_limits_on_uploads_and_their_special_values(bookworm: Root, settings: dict[str, str], accepted: bool) -> None:
    bookworm.write(
        "/tmp/upload.php", "<?php echo isset($_FILES['f']) && $_FILES['f']['error'] === 0 ? 'ACCEPTED' : 'REFUSED';"
    )
    options = [
        part
        for name, value in {
            "upload_max_filesize": "1M",
            "post_max_size": "1M",
            "display_errors": "0",
            **settings,
        }.items()
        for part in ("-d", f"{name}={value}")
    ]
    environment = {
        "REDIRECT_STATUS": "1",
        "REQUEST_METHOD": "POST",
        "SCRIPT_FILENAME": "/tmp/upload.php",
        "CONTENT_TYPE": "multipart/form-data; boundary=B",
        "CONTENT_LENGTH": str(len(UPLOAD)),
    }
    answer = bookworm.run("env", *(f"{k}={v}" for k, v in environment.items()), "php-cgi8.2", *options, stdin=UPLOAD)
    assert ("ACCEPTED" in answer) is accepted


def test_no_limit_on_memory_and_time(bookworm: Root) -> None:
    bookworm.write("/tmp/much.php", "<?php $x = str_repeat('x', 300 << 20); echo 'ENOUGH';")
    assert "ENOUGH" in bookworm.run("php-cgi8.2", "-q", "-d", "memory_limit=-1", "/tmp/much.php", REDIRECT_STATUS="1")
    assert "ENOUGH" not in bookworm.run(
        "php-cgi8.2", "-q", "-d", "memory_limit=64M", "/tmp/much.php", check=False, REDIRECT_STATUS="1"
    )
    bookworm.write(
        # Of its own time: where others work beside it, that goes by more slowly.
        "/tmp/long.php",
        "<?php do { $used = getrusage(); } while ($used['ru_utime.tv_sec'] < 3); echo 'ENOUGH';",
    )
    assert "ENOUGH" in bookworm.run(
        "php-cgi8.2", "-q", "-d", "max_execution_time=0", "/tmp/long.php", REDIRECT_STATUS="1"
    )
    assert "ENOUGH" not in bookworm.run(
        "php-cgi8.2", "-q", "-d", "max_execution_time=1", "/tmp/long.php", check=False, REDIRECT_STATUS="1"
    )
