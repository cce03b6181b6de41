"""Sites that tell PHP which script to run, and whether they answer with what PHP makes of it, as real ones were asked."""

from collections.abc import Sequence

SOCKET = "unix:/run/php/php8.2-fpm.sock"
_FILE = "fastcgi_param SCRIPT_FILENAME"
_PASS = f"fastcgi_pass {SOCKET};"
_USUAL = f"{_FILE} $document_root$fastcgi_script_name;"
FCGI = f"{SOCKET}|fcgi://h"


_MATCH = f'ProxyPassMatch "^/(.*\\.php)$" "{FCGI}/srv/a/$1"'
_ADDED = f'AddHandler "proxy:{FCGI}" .php'


def _rules(*lines: str) -> str:
    return "\n".join(("<Directory /srv/a>", *lines, "</Directory>"))


def php(lines: str) -> str:
    return f"location ~ \\.php$ {{\n{lines}\n{_PASS}\n}}"


NGINX: Sequence[tuple[str, bool, str]] = [  # a server's lines, whether it answers for /, what is said where it does not
    (f"root /srv/a;\n{php('include fastcgi.conf;')}", True, ""),
    (f"root /srv/a;\n{php('include fastcgi_params;')}", False, "PHP is not told SCRIPT_FILENAME"),
    (f"root /srv/a;\n{php(f'include fastcgi_params;{chr(10)}{_USUAL}')}", True, ""),
    (f"root /srv/a;\n{php(f'include fastcgi_params;{chr(10)}{_FILE} /x$fastcgi_script_name;')}", False, "PHP is told to run /x/index.php"),
    (f"root /srv/a;\n{php(f'include fastcgi.conf;{chr(10)}{_FILE} /x$uri;')}", False, "PHP is told to run /x/index.php"),
    (f"root /srv/a;\n{php(f'{_FILE} /x$uri;{chr(10)}include fastcgi.conf;')}", True, ""),
    (f"root /srv/a;\ninclude fastcgi_params;\n{php(_USUAL)}", False, "PHP is not told REQUEST_METHOD"),
    (f"root /srv/a;\ninclude fastcgi.conf;\n{php('')}", True, ""),
    (f"root /srv/a;\n{php('')}", False, "PHP is not told SCRIPT_FILENAME and REQUEST_METHOD"),
    (f"root /srv/a;\n{php(f'include fastcgi_params;{chr(10)}{_FILE} /srv/a/index.php;')}", True, ""),
    (f"root /srv/a;\n{php(f'include fastcgi_params;{chr(10)}{_FILE} $realpath_root$uri;')}", True, ""),
    (f"root /srv/a;\n{php(f'include fastcgi_params;{chr(10)}{_FILE} $request_filename;')}", True, ""),
    (f"root /srv/a;\n{php('include fastcgi_params;' + chr(10) + 'fastcgi_param PATH_TRANSLATED $document_root$uri;')}", True, ""),
    (f"location / {{\nroot /srv/a;\n}}\n{php('include fastcgi.conf;')}", False, "no root is set where PHP files are handed on"),
    (php("root /srv/a;\ninclude fastcgi.conf;"), False, "root is set for PHP files alone"),
    (f"root /srv/a;\nlocation ^~ / {{\n}}\n{php('include fastcgi.conf;')}", False, "nginx hands out the source of /index.php"),
    (f"root /srv/a;\nlocation = /index.php {{\n}}\n{php('include fastcgi.conf;')}", False, "nginx hands out the source of /index.php"),
    (f"root /srv/a;\nlocation ^~ /static/ {{\n}}\n{php('include fastcgi.conf;')}", True, ""),
    (f"root /srv/a;\nlocation / {{\ninclude fastcgi.conf;\n{_PASS}\n}}", False, "a request for / is handed to PHP as that of a directory"),
    (f"root /srv/a;\nlocation / {{\ninclude fastcgi.conf;\nfastcgi_index index.php;\n{_PASS}\n}}", True, ""),
    (f"root /srv/a;\nlocation ^~ / {{\ninclude fastcgi_params;\n{_FILE} $document_root/index.php;\n{_PASS}\n}}", True, ""),
    (f"root /srv/a;\nlocation ^~ / {{\nrewrite ^ /index.php last;\n}}\n{php('include fastcgi.conf;')}", False, "nginx answers a request for / with an error, and one for /index.php"),
    (f"location = / {{\nroot /srv/a;\n}}\n{php('include fastcgi.conf;')}", False, "no root is set where PHP files are handed on"),
    (f"location / {{\nroot /srv/a;\n}}\n{php(f'include fastcgi_params;{chr(10)}{_FILE} /srv/a$uri;')}", True, ""),
]  # fmt: skip
APACHE: Sequence[tuple[str, bool, str]] = [
    (f'ProxyPassMatch "^/(.*\\.php)$" "{FCGI}/srv/a/$1"', True, ""),
    (f'ProxyPassMatch "^/(.*\\.php)$" "{FCGI}/srv/a/"', True, ""),
    (f'ProxyPassMatch "^/(.*\\.php)$" "{FCGI}/x/$1"', False, "PHP is told to run /x/index.php"),
    (f'<LocationMatch "^/(.*\\.php)$">\nProxyPass "{FCGI}/x/$1"\n</LocationMatch>', False, "PHP is told to run /x/index.php"),
    (f'<LocationMatch "^/(.*\\.php)$">\nProxyPass "{FCGI}/srv/a/$1"\n</LocationMatch>', True, ""),
    (f'ProxyPass "/index.php" "{FCGI}/x/index.php"', False, "PHP is told to run /x/index.php"),
    (f'ProxyPass "/index.php" "{FCGI}/srv/a/index.php"', True, ""),
    (f'RewriteEngine On\nRewriteRule "^/(.*\\.php)$" "{FCGI}/srv/a/$1" [P]', True, ""),
    (f'RewriteEngine On\nRewriteRule "^/(.*\\.php)$" "{FCGI}/x/$1" [P]', False, "PHP is told to run /x/index.php"),
    (f'ProxyPass "/" "{FCGI}/srv/a/"', False, "a request for / is passed to PHP as that of a directory"),
    (f'ProxyPass "/index.php" "!"\n{_MATCH}', False, "Apache hands out the source of /index.php"),
    (f'ProxyPass "/static" "!"\n{_MATCH}', True, ""),
    (_ADDED, True, ""),
    (f"{_ADDED}\n<Files index.php>\nSetHandler default-handler\n</Files>", False, "Apache hands out the source of /index.php"),
    (f"{_ADDED}\n<Files index.php>\nSetHandler None\n</Files>", True, ""),
    (f"{_ADDED}\n<Files index.php>\nRemoveHandler .php\n</Files>", False, "Apache hands out the source of /index.php"),
    (f"{_ADDED}\n{_rules('<RequireAll>', 'Require all denied', 'Require all granted', '</RequireAll>')}", False, "Apache answers a request for / with an error"),
    (f"{_ADDED}\n{_rules('<RequireAny>', 'Require all denied', 'Require all granted', '</RequireAny>')}", True, ""),
    (f"{_ADDED}\n{_rules('RewriteEngine On', 'RewriteRule ^(.*)$ /x/$1')}", False, "Apache answers a request for / with an error"),
    (f"{_ADDED}\n{_rules('RewriteEngine On', 'RewriteCond %{REQUEST_FILENAME} !-f', 'RewriteRule ^ index.php [L]')}", True, ""),
    (f"{_ADDED}\nRewriteEngine On\nRewriteRule ^/index\\.php$ - [F]", False, "Apache answers a request for / with an error"),
    (f"{_MATCH}\nRewriteEngine On\nRewriteRule ^/index\\.php$ - [F]", False, "Apache answers a request for / with an error"),
    (f"{_MATCH}\nRewriteEngine On\nRewriteRule ^/$ /index.php [L]", False, "Apache hands out the source of /index.php"),
    (f"{_MATCH}\nRewriteEngine On\nRewriteRule ^/$ /index.php [PT]", True, ""),
    (f'{_MATCH}\n<Location "/">\nRequire all denied\n</Location>', False, "Apache refuses all of it: Require all denied"),
    (f'{_MATCH}\n<Location "/">\nRequire method POST\n</Location>', False, "Apache answers a request for / with an error"),
    (f"{_ADDED}\n{_rules('Require method POST')}", False, "Apache answers a request for / with an error"),
    (f"{_ADDED}\n{_rules('<Limit GET>', 'Require all denied', '</Limit>')}", False, "Apache answers a request for / with an error"),
    (f"{_ADDED}\n{_rules('<Limit PUT>', 'Require all denied', '</Limit>')}", True, ""),
    (f"{_ADDED}\n{_rules('<LimitExcept POST>', 'Require all denied', '</LimitExcept>')}", False, "Apache answers a request for / with an error"),
]  # fmt: skip


def nginx(port: int) -> str:
    """The sites, of which each has a name of its own."""
    servers = (
        f"server {{\nlisten 127.0.0.1:{port};\nserver_name s{n};\nindex index.php;\n{lines}\n}}\n"
        for n, (lines, _, _) in enumerate(NGINX)
    )
    return "".join(servers)


def apache(port: int) -> str:
    hosts = (
        f"<VirtualHost 127.0.0.1:{port}>\nServerName s{n}\nDocumentRoot /srv/a\n{lines}\n</VirtualHost>\n"
        for n, (lines, _, _) in enumerate(APACHE)
    )
    granted = "<Directory /srv>\nRequire all granted\n</Directory>\n"
    return f"Listen 127.0.0.1:{port}\nServerName none\nDirectoryIndex index.php\n{granted}{''.join(hosts)}"
