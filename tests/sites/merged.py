"""Servers made at random on which many places set PHP's configuration, each in one of the ways in which that is written."""

from random import Random

SIZES = ("64M", "200M", "1G", '"77M"', "'78M'", "33554432", "8m", "3K00M", "16 M", "0", "abc", '""')
NUMBERS = ("5", "17", "900", "4000", "0x10", '"12"', "1e3", "-1", "010")
WORDS = ("On", "Off", "1", "0", "yes", "no", "true", "false", "none", '"On"', "2")
VALUES: dict[str, tuple[str, ...]] = {
    **dict.fromkeys(("memory_limit", "post_max_size", "upload_max_filesize"), SIZES),
    **dict.fromkeys(("max_input_vars", "max_execution_time", "session.gc_maxlifetime", "precision"), NUMBERS),
    **dict.fromkeys(("display_errors", "short_open_tag", "allow_url_fopen", "file_uploads", "expose_php"), WORDS),
    "error_reporting": ("E_ALL", "E_ALL & ~E_NOTICE", "0", "32767", "~E_ALL", "E_ERROR | E_PARSE"),
    "default_charset": ("UTF-8", '""', "'utf-8'", "none", '"a b"'),
    "user_agent": ("x", '"a;b"', "'a\"b'", "a b c", "a;comment", "PHP_VERSION", '"q\\"x"'),
    "arg_separator.output": ("&", '"&amp;"', "';'", "&amp;"),
}
SECTIONS = ("[PATH=/srv/a]", "[PATH=/srv]", "[HOST=a]", "[HOST=b]", "[PATH=/srv/a/sub]", "[x]")
PLACES = (
    "Directory /srv/a", "Directory /srv", 'FilesMatch "\\.php$"', "Files index.php", "Location /", "Location /index.php",
    'DirectoryMatch "^/srv/a"', "Directory /srv/a/sub", 'LocationMatch "php$"',
)  # fmt: skip
ORDINARY_OR_NOT = ("php_value", "php_admin_value")
FOLDERS = ("/srv", "/srv/a", "/srv/a/sub")
NGINX = """\
server {{
    listen 127.0.0.1:{port};
    server_name a;
    root /srv/a;
    location ~ \\.php$ {{
        include snippets/fastcgi-php.conf;
        {sent}
        fastcgi_pass unix:/run/php/php{branch}-fpm.sock;
    }}
}}
"""
APACHE = """\
Listen 127.0.0.1:{port}
ServerName none
{main}
<VirtualHost 127.0.0.1:{port}>
ServerName a
DocumentRoot /srv/a
{inside}
</VirtualHost>
<Directory /srv>
Require all granted
AllowOverride All
</Directory>
"""


def ini(dice: Random, number: int) -> str:
    """Lines of an ini file."""
    names = dice.sample(list(VALUES), number)
    return "".join(
        f"{name}{dice.choice((' = ', '='))}{dice.choice(VALUES[name])}{dice.choice(('', ' ; x'))}\n" for name in names
    )


def lines(dice: Random, *, admin: bool = True) -> str:
    """Lines of Apache's configuration."""
    found = ""
    for name in dice.sample(list(VALUES), dice.choice((1, 2))):
        word = dice.choice(ORDINARY_OR_NOT if admin else ORDINARY_OR_NOT[:1])
        value = dice.choice([one for one in VALUES[name] if one != '""' and not (" " in one and one[0] not in "\"'")])
        if VALUES[name] is WORDS and dice.random() < 0.6:
            word, value = word.replace("value", "flag"), dice.choice(("on", "off", "1", "0", "yes", "true", "On"))
        found += f"{word} {name} {value}\n"
    return found


def _files(dice: Random, sapi: str) -> dict[str, str]:
    """The ini files of a way of running PHP, and those of directories."""
    files = {}
    for number in range(dice.choice((0, 1, 2))):
        text = ini(dice, dice.choice((1, 3)))
        text += f"{dice.choice(SECTIONS)}\n{ini(dice, 2)}" if dice.random() < 0.35 else ""
        files[f"/etc/php/{{branch}}/{sapi}/conf.d/{dice.choice((10, 50, 99))}-{number}.ini"] = text
    for folder in FOLDERS:
        if dice.random() < 0.4:
            broken = f"(broken\n{ini(dice, 1)}" if dice.random() < 0.1 else ""
            files[f"{folder}/.user.ini"] = ini(dice, dice.choice((1, 2, 4))) + broken
    return files


def nginx(seed: int, port: int, branch: str) -> dict[str, str]:
    """A server with nginx and PHP's process manager."""
    dice = Random(seed)
    pool = "[www]\npm = static\npm.max_children = 1\n"
    plain = {name: [value for value in values if not set(value) & set("\"'&;|~")] for name, values in VALUES.items()}
    for _ in range(dice.choice((0, 0, 2, 4))):  # what the manager's own file takes
        name, word = dice.choice([name for name, values in plain.items() if values]), dice.choice(ORDINARY_OR_NOT)
        if VALUES[name] is WORDS and dice.random() < 0.6:
            pool += f"{word.replace('value', 'flag')}[{name}] = {dice.choice(('on', 'off', 'yes', 'no', 'true'))}\n"
        else:
            pool += f"{word}[{name}] = {dice.choice(plain[name])}\n"
    sent = ""
    for name in ("PHP_VALUE", "PHP_ADMIN_VALUE"):
        if dice.random() < 0.35:
            kept = [line for line in ini(dice, 3).splitlines() if not set(line) & set("\"';$")]
            sent += f'fastcgi_param {name} "{dice.choice((chr(10), chr(92) + "n")).join(kept)}";\n' if kept else ""
    site = NGINX.format(port=port, branch=branch, sent=sent)
    at = "/etc/php/{branch}/fpm/pool.d/zz-laboratory.conf"
    return {**_files(dice, "fpm"), at: pool, "/etc/nginx/sites-enabled/site": site}


def apache(seed: int, port: int, branch: str) -> dict[str, str]:
    """A server with Apache and PHP as a module in it."""
    dice = Random(seed)

    def section(words: str, inside: str) -> str:
        return f"<{words}>\n{inside}</{words.partition(' ')[0]}>\n"

    inner = [section(words, lines(dice)) for words in PLACES if dice.random() < 0.25]
    inner += [section(PLACES[0], section(PLACES[2], lines(dice)))] if dice.random() < 0.3 else []
    dice.shuffle(inner)
    inside = "".join(inner) + (lines(dice) if dice.random() < 0.4 else "")
    main = (lines(dice) if dice.random() < 0.3 else "") + (
        section(PLACES[0], lines(dice)) if dice.random() < 0.3 else ""
    )
    files = _files(dice, "apache2")
    for folder in FOLDERS:
        if dice.random() < 0.3:
            more = section(PLACES[2], lines(dice, admin=False)) if dice.random() < 0.3 else ""
            files[f"{folder}/.htaccess"] = lines(dice, admin=False) + more
    return {**files, "/etc/apache2/sites-enabled/site.conf": APACHE.format(port=port, main=main, inside=inside)}
