"""Sites made at random that limit the time of requests, each in several places."""

from random import Random

from tests.webservers.body_limits import ABOVE, APACHE

TIMES = ("2", "3", "9", "30")
"""Seconds: less and more than a request of these tests takes."""
SOCKETS = ("/run/php/php8.2-fpm.sock", "/run/php/second.sock")
POOL = """\
[{name}]
user = www-data
group = www-data
listen = {socket}
listen.owner = www-data
pm = static
pm.max_children = 50
request_terminate_timeout = {time}
"""
PASSED = (  # ways of handing on; TIME is " timeout=N", or nothing
    '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:SOCKET|ADDRESS"\n</FilesMatch>\n',
    'ProxyPassMatch "^/(.*\\.php)$" "unix:SOCKET|ADDRESS/srv/a/$1"TIME\n',
    'ProxyPass "/index.php" "unix:SOCKET|ADDRESS/srv/a/index.php"TIME\n',
    '<LocationMatch "^/(.*\\.php)$">\nProxyPass "unix:SOCKET|ADDRESS/srv/a/$1"TIME\n</LocationMatch>\n',
)
WORKERS = (  # what defines a worker, or says something of one
    '<Proxy "ADDRESS">\nProxySet timeout=TIME\n</Proxy>\n',
    '<Proxy "unix:SOCKET|ADDRESS">\nProxySet timeout=TIME\n</Proxy>\n',
    '<Proxy "ADDRESS/srv/a/" timeout=TIME>\n</Proxy>\n',
    '<Proxy "ADDRESS">\nProxySet retry=3\n</Proxy>\nProxySet "ADDRESS" timeout=TIME\n',
    "Timeout TIME\n",
    "ProxyTimeout TIME\n",
)
PHP = "location ~ \\.php$ {\nLIMIT include snippets/fastcgi-php.conf; fastcgi_pass unix:SOCKET;\n}\n"
NGINX = "server {\nlisten 127.0.0.1:PORT;\nserver_name NAME;\nroot /srv/a;\nindex index.php;\nLIMIT INSIDE}\n"
WAITS = (
    "fastcgi_read_timeout",
    "fastcgi_read_timeout",
    "fastcgi_send_timeout",
    "send_timeout",
    "fastcgi_connect_timeout",
)
FRONTS = (  # LIMIT is a limit, or none
    "",
    "location / {\nLIMIT try_files $uri /index.php;\n}\n",
    f"location / {{\nLIMIT {PHP}}}\n",
    "location = / {\nLIMIT }\n",
    "location = /index.php {\nLIMIT include fastcgi.conf; fastcgi_pass unix:SOCKET;\n}\n",
)


def _pools(dice: Random) -> dict[str, str]:
    """Two pools, each with its own limit, or none."""
    times = (dice.choice(("0", "30s")), dice.choice(("0", "2s", "1m")))
    named = zip(("www", "second"), SOCKETS, times, strict=True)
    texts = [POOL.format(name=name, socket=socket, time=time) for name, socket, time in named]
    return {"/etc/php/8.2/fpm/pool.d/zz-laboratory.conf": "".join(texts)}


def _filled(text: str, words: dict[str, str]) -> str:
    for name, value in words.items():
        text = text.replace(name, value)
    return text


def nginx(dice: Random, port: int, sites: int) -> dict[str, str]:
    """A configuration of nginx with so many sites, called ``s0``, ``s1`` ..."""
    texts = []
    for number in range(sites):
        text = NGINX.replace("INSIDE", dice.choice(FRONTS) + PHP)
        while "LIMIT" in text:
            limit = (
                f"{dice.choice(WAITS)} {dice.choice(TIMES)}{dice.choice(('', 's'))};\n" if dice.random() < 0.4 else ""
            )
            text = text.replace("LIMIT", limit, 1)
        words = {"PORT": str(port), "NAME": f"s{number}", "SOCKET": dice.choice(SOCKETS)}
        texts.append(_filled(text, words))
    return {**_pools(dice), "/etc/nginx/sites-enabled/site": "\n".join(texts)}


def apache(dice: Random, port: int, sites: int) -> dict[str, str]:
    """A configuration of Apache with so many sites, which hand PHP to pools."""
    texts = []
    for number in range(sites):
        time = f" timeout={dice.choice(TIMES)}" if dice.random() < 0.4 else ""
        parts = [dice.choice(PASSED).replace("TIME", time)]
        parts += [dice.choice(WORKERS).replace("TIME", dice.choice(TIMES)) for _ in range(dice.choice((0, 1, 1, 2, 3)))]
        dice.shuffle(parts)
        words = {"SOCKET": dice.choice(SOCKETS), "ADDRESS": f"fcgi://h{number}"}
        texts.append(APACHE.format(port, f"s{number}", _filled("".join(parts), words)))
    main = "".join(
        f'<Proxy "fcgi://h{number}">\nProxySet timeout={dice.choice(TIMES)}\n</Proxy>\n'
        for number in dice.sample(range(sites), 3)
    )
    return {**_pools(dice), "/etc/apache2/sites-enabled/site.conf": ABOVE.format(port) + main + "".join(texts)}
