"""Sites that let in requests by a header which no browser sends by itself, or send every visitor elsewhere."""

import http.client

import pytest

from fundamentum.check.judge import check
from tests.small_root import needs

from .laboratory import running
from .test_laboratory import look

pytestmark = pytest.mark.real
PORT = 8203
NGINX = """\
server {
listen 127.0.0.1:%d;
server_name NAME;
root /srv/NAME;
index index.php;
RULE
location ~ \\.php$ { fastcgi_pass unix:/run/php/php8.2-fpm.sock; include fastcgi.conf; }
}
"""
APACHE = """\
<VirtualHost 127.0.0.1:%d>
ServerName NAME
DocumentRoot /srv/NAME
<Directory /srv/NAME>
RULE
</Directory>
</VirtualHost>
"""
WITH_KEY = {"X-Key": "k"}
RULES = {  # server: lines; who reaches PHP: whoever sends no header, whoever sends one; the verdict
    "nginx": [
        ('if ($http_x_key != "k") { return 403; }', (False, True), "unknown"),
        ('if ($http_x_key = "") { return 444; }', (False, True), "unknown"),
        ('if ($http_x_key !~ "^k") { return 503; }', (False, True), "unknown"),
        ('if ($http_x_key = "k") { return 403; }', (True, False), "met"),
        ("if ($http_x_key) { return 403; }", (True, False), "met"),
    ],
    "apache": [
        ('SetEnvIf X-Key "^k$" inside\nRequire env inside', (False, True), "unknown"),
        ("Require expr %{HTTP:X-Key} == 'k'", (False, True), "unknown"),
        ("Require all granted\n<If \"%{HTTP:X-Key} != 'k'\">\nRequire all denied\n</If>", (False, True), "unknown"),
        ("Require all granted", (True, True), "met"),
        (
            "Require all granted\n</Directory>\nRedirect 302 / https://b.example/\n<Directory /none>",
            (False, False),
            "unmet",
        ),
        ("Require all granted\n</Directory>\nRedirect 503 /\n<Directory /none>", (False, False), "unmet"),
    ],
}


def reaches(site: str, headers: dict[str, str]) -> bool:
    """Whether PHP answers a request with some headers."""
    connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=20)
    try:
        connection.request("GET", "/", headers={"Host": site, **headers})
        return connection.getresponse().read().startswith(b"PHP")
    except http.client.HTTPException:
        return False  # the connection was closed without a word


@pytest.mark.parametrize("server", list(RULES))
def test_who_is_let_in_by_a_header(server: str) -> None:
    folder, ending, text = (
        ("nginx", "", NGINX % PORT) if server == "nginx" else ("apache2", ".conf", f"Listen {PORT}\n{APACHE % PORT}")
    )
    files: dict[str, str] = {}
    for at, (rule, _, _) in enumerate(RULES[server]):
        site = text if at == 0 else text.removeprefix(f"Listen {PORT}\n")
        files[f"/etc/{folder}/sites-enabled/s{at}{ending}"] = site.replace("RULE", rule).replace("NAME", f"s{at}")
        files[f"/srv/s{at}/index.php"] = "<?php echo 'PHP';"
    with running("bookworm", files, server, PORT) as root:
        survey = look(root)
        for at, (rule, reached, verdict) in enumerate(RULES[server]):
            assert (reaches(f"s{at}", {}), reaches(f"s{at}", WITH_KEY)) == reached, rule
            assert check(needs(), survey, f"s{at}").findings[0].verdict == verdict, rule
