"""Which limits of a body a request meets; tests/real/test_body_limits.py asks real servers."""

from pathlib import Path

import pytest

from tests.small_root import look, small_root

PASS = "fastcgi_pass unix:/run/php/php8.2-fpm.sock;"
PHP = f"location ~ \\.php$ {{ client_max_body_size 2m; {PASS} }}"
NGINX = "http {{\nserver {{\nserver_name a;\nroot /srv/a;\nindex index.php;\n{}\n}}\n}}\n"
HANDLER = '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"\n</FilesMatch>\n'
APACHE = "<VirtualHost *:80>\nServerName a\nDocumentRoot /srv/a\n{}\n</VirtualHost>\n<Directory /srv>\nAllowOverride All\n</Directory>\n"
Row = tuple[str, str, list[tuple[str, str | None]]]
CASES: list[Row] = [  # server, the site's lines, each limit with the part it is for
    ("nginx", PHP, [("1m", "/"), ("2m", None)]),
    ("nginx", "client_max_body_size 2m;\n" + PHP, [("2m", "/"), ("2m", None)]),
    ("nginx", "location / { client_max_body_size 3m; try_files $uri /index.php; }\n" + PHP, [("3m", "location /"), ("2m", None)]),
    ("nginx", "location / { client_max_body_size 3m; location ~ \\.php$ { " + PASS + " } }\n" + PHP, [("3m", None)]),
    ("nginx", "location = / { client_max_body_size 3m; }\n" + PHP, [("3m", "location = /"), ("2m", None)]),
    ("nginx", "location ^~ /plates/ { client_max_body_size 9m; }\n" + PHP, [("1m", "/"), ("2m", None)]),
    ("apache", "LimitRequestBody 1\n", [("1", None)]),
    ("apache", '<FilesMatch "\\.php$">\nLimitRequestBody 2\n</FilesMatch>\nLimitRequestBody 1\n', [("2", None)]),
    ("apache", "<Files index.php>\nLimitRequestBody 2\n</Files>\nLimitRequestBody 1\n", [("1", None), ("2", "/index.php")]),
    ("apache", "<Files plates.php>\nLimitRequestBody 2\n</Files>\nLimitRequestBody 1\n", [("1", None)]),
    ("apache", "<Directory /srv/b>\nLimitRequestBody 2\n</Directory>\n", [("", None)]),
    ("apache", "<Directory /srv/a>\nLimitRequestBody 2\n</Directory>\n<Directory /srv>\nLimitRequestBody 3\n</Directory>\n", [("2", None)]),
    ("apache", '<If "%{REMOTE_ADDR} == \'x\'">\nLimitRequestBody 2\n</If>\nLimitRequestBody 1\n', [("1", None), ("2", None)]),
    ("apache", '<If "true">\n<Files index.php>\nLimitRequestBody 2\n</Files>\n</If>\n', [("", None)]),
    ("access", "LimitRequestBody 2\n", [("2", None)]),
    ("access", '<FilesMatch "\\.php$">\nLimitRequestBody 2\n</FilesMatch>\n', [("2", None)]),
]  # fmt: skip


@pytest.mark.parametrize(("server", "lines", "expected"), CASES)
def test_the_limits_that_a_request_meets(
    server: str, lines: str, expected: list[tuple[str, str | None]], tmp_path: Path
) -> None:
    files: dict[str, str | bytes] = {"srv/a/index.php": "<?php"}
    if server == "nginx":
        files["etc/nginx/nginx.conf"] = NGINX.format(lines)
    else:
        files["etc/apache2/apache2.conf"] = APACHE.format(HANDLER + (lines if server == "apache" else ""))
    if server == "access":
        files["srv/a/.htaccess"] = lines
    (site,) = look(small_root(tmp_path, extra=files)).sites
    body = ("client_max_body_size", "LimitRequestBody")
    assert [(limit.value, limit.part) for limit in site.limits if limit.name in body] == expected
