"""Sites made at random, of which some let nobody in, some let somebody in, and some answer with another file."""

from random import Random

PASS = "include fastcgi.conf; fastcgi_pass unix:/run/php/php8.2-fpm.sock;"
INDEXES = ("index index.php;", "index index.html;", "index index.html index.php;", "index none.html index.php;", "")
RULES = ("deny all;", "allow all;", "allow 127.0.0.1; deny all;", "satisfy any; deny all;", "")
FRONTS = (
    "location / { try_files $uri $uri/ /index.php; }", "location / { try_files $uri $uri/ =404; }",
    "location / { try_files $uri /other.php; }", "location / { try_files $uri =404; }",
    "location / { try_files $uri $uri/ @page; } location @page { rewrite ^ /index.php last; }",
    "location / { if (!-e $request_filename) { rewrite ^ /index.php last; } }", "location / { RULE }",
    "location = / { INDEX RULE }", "location = / { return 404; }", "location = / { try_files /index.php =404; }",
    "location / { return 404; }", "location / { internal; }", "location / { root /srv/b; }", "location / { autoindex on; }",
    f"location ^~ / {{ location ~ \\.php$ {{ {PASS} }} RULE }}", "", "", "",
)  # fmt: skip
MORE = (
    "if ($request_method = POST) { return 405; }", 'if ($host != "SITE") { return 404; }', "if ($args) { return 403; }",
    "if (!-f $document_root/none) { return 503; }", "error_page 403 404 /index.php;", "rewrite ^/$ /index.php;", "return 403;",
    "location ~ ^/index { deny all; }", "location = /index.php { return 404; }", "location /index.php { deny all; }", "", "",
)  # fmt: skip
INNER = (
    "try_files $uri =404;",
    "if (!-f $request_filename) { return 404; }",
    "return 404;",
    "internal;",
    "RULE",
    "",
    "",
)
NGINX = "server {\nlisten 127.0.0.1:PORT;\nserver_name SITE;\nroot ROOT;\n"

REQUIRED = ("Require all denied", "Require all granted", "Require ip 127.0.0.1", "Deny from all")
LISTED = tuple(
    f"DirectoryIndex {names}" for names in ("index.php", "index.html", "index.html index.php", "none.html", "disabled")
)
ON = "RewriteEngine on\nRewriteRule "
REWRITTEN = (
    f"{ON}^/?$ /index.php [L]", f"{ON}^/?$ - [F]", f"{ON}\\.php$ - [F,L]", "RewriteEngine off\nRewriteRule ^ - [F]",
    "RewriteEngine on\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^ /index.php [L]",
)  # fmt: skip
WHOLE = ("FallbackResource /index.php", "FallbackResource disabled", "Redirect 410 /index.php", "RedirectMatch 404 ^/$")
SECTIONS = ("Directory ROOT", "Location /", 'FilesMatch "\\.php$"', "Files index.php", 'LocationMatch "^/index"')
APACHE = "<VirtualHost 127.0.0.1:PORT>\nServerName SITE\nDocumentRoot ROOT\n"
ABOVE = (
    "Listen 127.0.0.1:PORT\nServerName none\n<Directory /srv>\nRequire all granted\nAllowOverride All\n</Directory>\n"
)


def nginx(dice: Random, name: str) -> dict[str, str]:
    """One site of nginx."""
    inside = f"location ~ \\.php$ {{ {dice.choice(INNER)} {PASS} }}"
    lines = [dice.choice(INDEXES), dice.choice(RULES), dice.choice(FRONTS), dice.choice(MORE), inside]
    text = NGINX + "\n".join(lines) + "\n}\n"
    return {
        f"/etc/nginx/sites-enabled/{name}": text.replace("RULE", dice.choice(RULES)).replace(
            "INDEX", dice.choice(INDEXES)
        )
    }


def apache(dice: Random, name: str) -> dict[str, str]:
    """One site of Apache, with a file of its directory."""

    def section() -> str:
        words = dice.choice(SECTIONS)
        inside = dice.choice((*REQUIRED, *LISTED) if words in SECTIONS[:2] else REQUIRED)
        return f"<{words}>\n{inside}\n</{words.partition(' ')[0]}>"

    lines = [dice.choice((*LISTED, ""))]
    for _ in range(dice.choice((0, 1, 1, 2, 3))):
        lines.append(dice.choice((section(), section(), dice.choice(REWRITTEN), dice.choice(WHOLE))))
    access = dice.choice((*REQUIRED, *LISTED, *REWRITTEN, "", "", "", "")) + "\n"
    return {
        f"/etc/apache2/sites-enabled/{name}.conf": APACHE + "\n".join(lines) + "\n</VirtualHost>\n",
        "ROOT/.htaccess": access,
    }


def sites(server: str, seed: int, port: int, number: int) -> dict[str, str]:
    """The files of a server with so many sites, called ``s0``, ``s1`` ..."""
    dice = Random(seed)
    files = {} if server == "nginx" else {"/etc/apache2/sites-enabled/0.conf": ABOVE}
    for at in range(number):
        made = (nginx if server == "nginx" else apache)(dice, f"s{at}")
        made |= {"ROOT/index.html": "static"} if dice.random() < 0.3 else {}
        files |= {path.replace("ROOT", f"/srv/s{at}"): _named(text, f"s{at}") for path, text in made.items()}
    return {path: text.replace("PORT", str(port)) for path, text in files.items()}


def _named(text: str, name: str) -> str:
    return text.replace("ROOT", f"/srv/{name}").replace("SITE", name)
