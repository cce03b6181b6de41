"""Statements that lack their words, as recordings hold those that are not for everybody: none ends a survey."""

from pathlib import Path

import pytest

from tests.around import around_root, look, needs, site

WEB = needs('[web]\ndocument_root = "public"\nfront_controller = "index.php"\ndeny = ["config"]\n')
STATEMENTS = (
    *(
        "rewrite;",
        "try_files;",
        "return;",
        "if (x) { }",
        "if;",
        "set;",
        "set $x;",
        "error_page;",
        "index;",
        "root;",
        "alias;",
    ),
    *("location { return 404; }", "location ~ { return 404; }", "location ~ ^/( { return 404; }", "fastcgi_param;"),
    *("satisfy;", "deny;", "autoindex;", "client_max_body_size;", "break;", "internal;", "listen;", "server_name;"),
)
LINES = (
    *("Alias", "AliasMatch", "ScriptAlias", "RewriteEngine", "RewriteRule", "RewriteRule ^", "RewriteCond", "Redirect"),
    *("RedirectMatch", "DirectoryIndex", "FallbackResource", "ErrorDocument", "SetHandler", "AddHandler", "ProxyPass"),
    *("ProxyPassMatch", "LimitRequestBody", "php_value", "php_flag x", "Require", "Deny", "Options", "DocumentRoot"),
    *(
        "VirtualDocumentRoot",
        "<Location>\nProxyPass\n</Location>",
        "<Files>\nSetHandler None\n</Files>",
        "<If>\nAlias\n</If>",
    ),
)


@pytest.mark.parametrize("statement", STATEMENTS)
def test_of_nginx(statement: str, tmp_path: Path) -> None:
    for number, text in enumerate(
        (site(f"{statement}\n"), site(location=f"{statement}\n"), site(front=f"{statement}\n"))
    ):
        assert look(around_root(tmp_path / str(number), nginx=text), WEB).web_servers is not None


@pytest.mark.parametrize("line", LINES)
def test_of_apache(line: str, tmp_path: Path) -> None:
    handing = 'SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"'
    host = f"ServerName nightlog\nDocumentRoot /srv/nightlog/public\n{handing}\n{line}"
    for number, text in enumerate((f"<VirtualHost *:80>\n{host}\n</VirtualHost>\n", f"{line}\n{host}\n")):
        files: dict[str, str | bytes] = {
            "etc/apache2/apache2.conf": f"{text}<Directory /srv>\nAllowOverride All\n</Directory>\n",
            "srv/nightlog/public/.htaccess": f"{line}\n",
        }
        assert look(around_root(tmp_path / str(number), extra=files), WEB).web_servers is not None
