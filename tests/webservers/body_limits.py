"""Sites made at random that limit the bodies of requests, each in several places."""

import re
from random import Random

SIZES = ("1500000", "2000000", "3000000", "5000000", "0")
PASS = "include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock;"
PHP = f"location ~ \\.php$ {{ LIMIT {PASS} }}"
NGINX = "server {\nlisten 127.0.0.1:PORT;\nserver_name NAME;\nroot /srv/a;\nindex index.php;\nSOMETIMES\nINSIDE\n}\n"
APACHE = "<VirtualHost 127.0.0.1:{}>\nServerName {}\nDocumentRoot /srv/a\n{}</VirtualHost>\n"
ABOVE = "Listen 127.0.0.1:{}\nServerName none\nDirectoryIndex index.php\n<Directory /srv>\nRequire all granted\n</Directory>\n"
FRONTS = (  # LIMIT is a limit, or none
    "location / { LIMIT try_files $uri $uri/ /index.php; }",
    "location / { LIMIT try_files $uri $uri/ @page; } location @page { LIMIT rewrite ^ /index.php last; }",
    f"location / {{ LIMIT {PHP} }}",
    "location = / { LIMIT } location / { LIMIT try_files $uri /index.php; }",
    f"location ^~ / {{ LIMIT {PHP} }}",
    "",
)
SECTIONS = (
    ("Directory /srv/a", 0.4), ("Directory /srv", 0.3), ('FilesMatch "\\.php$"', 0.4), ("Files index.php", 0.2),
    ("Files other.php", 0.2), ("Location /", 0.3), ("Location /index.php", 0.2), ('LocationMatch "\\.php$"', 0.2),
    ('DirectoryMatch "^/srv/a"', 0.2), ('If "true"', 0.1), ('Location "/*.php"', 0.15), ("Location /sub", 0.15),
)  # fmt: skip


def nginx(dice: Random, port: int, sites: int) -> dict[str, str]:
    """A configuration of nginx with so many sites, called ``s0``, ``s1`` ..."""

    def limit(chance: float) -> str:
        return f"client_max_body_size {dice.choice(SIZES)};" if dice.random() < chance else ""

    texts = [limit(0.3)]
    for number in range(sites):
        exact = f"location = /index.php {{ LIMIT {PASS} }}" if dice.random() < 0.2 else ""
        text = NGINX.replace("INSIDE", "\n".join((dice.choice(FRONTS), exact, PHP)))
        text = re.sub("LIMIT|SOMETIMES", lambda match: limit(0.5 if match[0] == "LIMIT" else 0.3), text)
        texts.append(text.replace("PORT", str(port)).replace("NAME", f"s{number}"))
    return {"/etc/nginx/sites-enabled/site": "\n".join(texts)}


def apache(dice: Random, port: int, sites: int) -> dict[str, str]:
    """A configuration of Apache with so many sites."""

    def limit(chance: float = 1) -> str:
        return f"LimitRequestBody {dice.choice(SIZES)}\n" if dice.random() < chance else ""

    def section(words: str, inside: str) -> str:
        return f"<{words}>\n{inside}</{words.partition(' ')[0]}>\n" if inside else ""

    texts = []
    for number in range(sites):
        parts = [limit(0.3), *(section(words, limit(chance)) for words, chance in SECTIONS)]
        parts.append(section("Directory /srv/a", section('FilesMatch "\\.php$"', limit(0.3))))
        dice.shuffle(parts)
        front = "FallbackResource /index.php\n" if dice.random() < 0.6 else ""
        texts.append(APACHE.format(port, f"s{number}", front + "".join(parts)))
    return {"/etc/apache2/sites-enabled/site.conf": ABOVE.format(port) + "".join(texts)}
