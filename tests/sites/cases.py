"""Ways to configure a site's PHP: the web server, and the files of each."""

RELEASES = {"bullseye": "7.4", "bookworm": "8.2", "trixie": "8.4"}
FPM = "/etc/php/{branch}/fpm/pool.d/zz-laboratory.conf"
NGINX = """\
server {{
    listen 127.0.0.1:{port};
    server_name a;
    root /srv/a;
    index index.php;
    {server}
    location ~ \\.php$ {{
        include snippets/fastcgi-php.conf;
        {location}
        fastcgi_pass unix:/run/php/php{branch}-fpm.sock;
    }}
}}
server {{
    listen 127.0.0.1:{port};
    server_name b;
    root /srv/b;
    index index.php;
    location ~ \\.php$ {{ include snippets/fastcgi-php.conf; fastcgi_pass unix:/run/php/php{branch}-fpm.sock; }}
}}
"""
APACHE = """\
Listen 127.0.0.1:{port}
ServerName laboratory
DirectoryIndex index.php
{main}
<VirtualHost 127.0.0.1:{port}>
    ServerName a
    DocumentRoot /srv/a
    {server}
</VirtualHost>
<VirtualHost 127.0.0.1:{port}>
    ServerName b
    DocumentRoot /srv/b
</VirtualHost>
<Directory /srv>
    Require all granted
</Directory>
"""
HANDED = (
    '<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/php/php{branch}-fpm.sock|fcgi://localhost"\n</FilesMatch>\n'
)
Files = dict[str, str]
SITE = {"nginx": "/etc/nginx/sites-enabled/site", "apache": "/etc/apache2/sites-enabled/site.conf"}
INI = "/etc/php/{branch}/fpm/conf.d/99-x.ini"
MODULE_INI = "/etc/php/{branch}/apache2/conf.d/99-x.ini"
POOL = "[www]\npm = static\npm.max_children = 1\n"
USER = "/srv/a/.user.ini"
ACCESS = "/srv/a/.htaccess"
ALL = "<Directory /srv/a>\nAllowOverride All\n</Directory>\n"


def sent(name: str, text: str) -> str:
    return f'fastcgi_param {name} "{text}";'


def nginx(server: str = "", location: str = "", pool: str = "", **files: str) -> tuple[str, str, str, Files]:
    return "nginx", server, location, {**({FPM: POOL + pool} if pool else {}), **files}


def directory(path: str, *lines: str) -> str:
    return f"<Directory {path}>\n" + "\n".join(lines) + "\n</Directory>\n"


PATH_A = "[PATH=/srv/a]\nmemory_limit = 400M\n"
HOST_A = "[HOST=a]\nmemory_limit = 401M\n"
U300 = {USER: "memory_limit = 300M\n"}
VALUE = sent("PHP_VALUE", "memory_limit=111M")
ADMIN = sent("PHP_ADMIN_VALUE", "memory_limit=112M")
P_VALUE, P_ADMIN = "php_value[memory_limit] = 200M\n", "php_admin_value[memory_limit] = 201M\n"
V, A = "php_value memory_limit {}M", "php_admin_value memory_limit {}M"

# name → web server, what stands in the server block, in the location (Apache: in the main server), other files
CASES: dict[str, tuple[str, str, str, Files]] = {
    "fpm: nothing": nginx(),
    "fpm: pool value": nginx(pool=P_VALUE),
    "fpm: pool admin": nginx(pool=P_ADMIN),
    "fpm: pool both": nginx(pool=P_VALUE + P_ADMIN),
    "fpm: pool value twice": nginx(pool=P_VALUE + "php_value[memory_limit] = 202M\n"),
    "fpm: pool flags": nginx(pool="php_flag[file_uploads] = off\nphp_admin_flag[display_errors] = on\n"),
    "fpm: scan directory": nginx(**{INI: "memory_limit = 99M\nfile_uploads = Off\n"}),
    "fpm: sent": nginx(location=VALUE),
    "fpm: sent, pool value": nginx(location=VALUE, pool=P_VALUE),
    "fpm: sent, pool admin": nginx(location=VALUE, pool=P_ADMIN),
    "fpm: sent admin, pool admin": nginx(location=ADMIN, pool=P_ADMIN),
    "fpm: sent both": nginx(location=VALUE + ADMIN),
    "fpm: sent several": nginx(location=sent("PHP_VALUE", "memory_limit=111M\nmax_input_vars=7\nfile_uploads=0")),
    "fpm: sent several by escape": nginx(location=sent("PHP_VALUE", r"memory_limit=111M \n max_input_vars=7")),
    "fpm: sent, the last counts": nginx(location=VALUE + sent("PHP_VALUE", "max_input_vars=7")),
    "fpm: sent with a comment": nginx(location=sent("PHP_VALUE", "memory_limit=111M; max_input_vars=7")),
    "fpm: sent quoted": nginx(location="fastcgi_param PHP_VALUE 'memory_limit = \"113M\"';"),
    "fpm: another script is sent": nginx(
        location="fastcgi_param SCRIPT_FILENAME /srv/b/index.php;", **{"/srv/b/.user.ini": "memory_limit = 117M\n"}
    ),
    "fpm: another root is sent": nginx(
        location="fastcgi_param DOCUMENT_ROOT /srv;", **{"/srv/.user.ini": "memory_limit = 116M\n"}
    ),
    "fpm: sent for the server, inherited by none": nginx(server=VALUE),
    "fpm: sent from an included file": nginx(location="include x.conf;", **{"/etc/nginx/x.conf": VALUE}),
    "fpm: sent with a variable": nginx(server="set $limit 114M;", location=sent("PHP_VALUE", "memory_limit=$limit")),
    "fpm: sent by request": nginx(location=sent("PHP_VALUE", "memory_limit=${arg_m}5M")),
    "fpm: sent by map": nginx(
        location=sent("PHP_VALUE", "$limits"),
        **{"/etc/nginx/conf.d/x.conf": 'map $host $limits { default "memory_limit=115M"; }'},
    ),
    "fpm: pool without a function": nginx(pool="php_admin_value[disable_functions] = exec\n"),
    "fpm: functions taken twice": nginx(
        pool="php_value[disable_functions] = exec\n", **{INI: "disable_functions = passthru\n"}
    ),
    "fpm: functions taken by what is sent": nginx(location=sent("PHP_ADMIN_VALUE", "disable_functions=exec")),
    "fpm: functions shown as taken for a path": nginx(**{INI: "[PATH=/srv/a]\ndisable_functions = exec\n"}),
    "fpm: fenced in a pool": nginx(pool="php_admin_value[open_basedir] = /srv/a/index.php:/srv/a/closed:/tmp\n"),
    "fpm: fenced by a user file": nginx(**{USER: "open_basedir = /srv/a\n"}),
    "fpm: what counts at the start": nginx(pool="php_admin_value[opcache.memory_consumption] = 8\n"),
    "fpm: user file": nginx(**U300),
    "fpm: user file, sent": nginx(location=VALUE, **U300),
    "fpm: user file, sent admin": nginx(location=ADMIN, **U300),
    "fpm: user file, pool value": nginx(pool=P_VALUE, **U300),
    "fpm: user file, pool admin": nginx(pool=P_ADMIN, **U300),
    "fpm: user file, pool admin, sent": nginx(location=VALUE, pool=P_ADMIN, **U300),
    "fpm: user file with the system's own": nginx(
        **{USER: "file_uploads = 0\nallow_url_fopen = 0\ndisable_functions = exec\nmax_input_vars = 8\n"}
    ),
    "fpm: user file with a section": nginx(**{USER: "[x]\nmemory_limit = 301M\n"}),
    "fpm: user file that breaks off": nginx(**{USER: "memory_limit = 302M\nmax_input_vars = (5\npost_max_size = 9M\n"}),
    "fpm: user file with constants": nginx(**{USER: "error_reporting = E_ALL & ~E_NOTICE\ndefault_charset = 'x'\n"}),
    "fpm: user file above": nginx(**{"/srv/.user.ini": "memory_limit = 303M\n"}),
    "fpm: user file below": nginx(**{"/srv/a/sub/.user.ini": "memory_limit = 304M\n"}, **U300),
    "fpm: user files off in a pool": nginx(pool="php_admin_value[user_ini.filename] =\n", **U300),
    "fpm: user files off": nginx(**{INI: "user_ini.filename =\n"}, **U300),
    "fpm: user files of another name": nginx(
        **{INI: "user_ini.filename = my.ini\n", "/srv/a/my.ini": "memory_limit = 305M\n"}, **U300
    ),
    "fpm: path": nginx(**{INI: PATH_A}),
    "fpm: path with a slash": nginx(**{INI: "[PATH=/srv/a/]\nmemory_limit = 402M\n"}),
    "fpm: path above": nginx(**{INI: "[PATH=/srv]\nmemory_limit = 403M\n"}),
    "fpm: path of another": nginx(**{INI: "[PATH=/srv/b]\nmemory_limit = 403M\n[PATH=/srv/ab]\npost_max_size = 9M\n"}),
    "fpm: path nearer and above": nginx(**{INI: PATH_A + "[PATH=/srv]\nmemory_limit = 404M\n"}),
    "fpm: host": nginx(**{INI: HOST_A}),
    "fpm: host and path": nginx(**{INI: PATH_A + HOST_A}),
    "fpm: path and host": nginx(**{INI: HOST_A + PATH_A}),
    "fpm: path, user file": nginx(**{INI: PATH_A}, **U300),
    "fpm: path, pool admin": nginx(pool=P_ADMIN, **{INI: PATH_A}),
    "fpm: path, sent": nginx(location=VALUE, **{INI: PATH_A}),
    "fpm: path, sent admin": nginx(location=ADMIN, **{INI: PATH_A}),
    "fpm: path, the system's own": nginx(**{INI: "[PATH=/srv/a]\nfile_uploads = 0\n"}),
    "fpm: path, then none": nginx(**{INI: PATH_A + "[x]\nmemory_limit = 405M\n"}),
    "fpm: path in two files": nginx(
        **{
            INI: PATH_A,
            "/etc/php/{branch}/fpm/conf.d/99-y.ini": "[PATH=/srv/a]\nmemory_limit = 406M\npost_max_size = 5M\n",
        }
    ),
}


def apache(name: str, server: str = "", main: str = "", way: str = "apache", **files: str) -> None:
    CASES[f"{'module' if way == 'apache' else 'proxy'}: {name}"] = (way, server, main, files)


def access(text: str) -> Files:
    return {ACCESS: text + "\n"}


apache("nothing")
apache("main", main=V.format(210))
apache("host", V.format(211))
apache("main and host", V.format(211), V.format(210))
apache("main admin, host", V.format(211), A.format(210))
apache("main, host admin", A.format(211), V.format(210))
apache("main admin, host admin", A.format(211), A.format(210))
apache("host admin, directory", A.format(211) + "\n" + directory("/srv/a", V.format(212)))
apache("host admin, main's directory", A.format(211), directory("/srv/a", V.format(212)))
apache("host, main's directory", V.format(211), directory("/srv/a", V.format(212)))
apache("directory in both", directory("/srv/a", V.format(213)), directory("/srv/a", V.format(212)))
apache("longer directory in main", directory("/srv", V.format(213)), directory("/srv/a", V.format(212)))
apache("admin above, value below", directory("/srv", A.format(214)) + directory("/srv/a", V.format(215)))
apache("admin above, admin below", directory("/srv", A.format(214)) + directory("/srv/a", A.format(215)))
apache("another directory", directory("/srv/b", V.format(216)) + directory("/srv/ab", V.format(217)))
apache("directory below", directory("/srv/a/sub", V.format(218)))
apache("wildcard", directory("/srv/*", V.format(219)))
apache("wildcard elsewhere", directory("/s*/b", V.format(219)))
apache("pattern", f'<DirectoryMatch "^/srv/a">\n{V.format(220)}\n</DirectoryMatch>')
apache(
    "pattern over directory",
    f'<Directory ~ "^/srv/a">\n{V.format(220)}\n</Directory>\n' + directory("/srv/a", V.format(221)),
)
apache("pattern elsewhere", f'<DirectoryMatch "^/srv/b">\n{V.format(220)}\n</DirectoryMatch>')
apache("files", f"<Files index.php>\n{V.format(222)}\n</Files>")
apache("files of others", f"<Files other.php>\n{V.format(222)}\n</Files>")
apache("files by pattern", f'<FilesMatch "\\.php$">\n{V.format(223)}\n</FilesMatch>')
apache("location", f"<Location />\n{V.format(224)}\n</Location>")
apache("location of others", f"<Location /admin>\n{V.format(224)}\n</Location>")
apache("files, location", f"<Location />\n{V.format(224)}\n</Location>\n<Files index.php>\n{V.format(222)}\n</Files>")
apache("directory admin, location", directory("/srv/a", A.format(225)) + f"<Location />\n{V.format(224)}\n</Location>")
apache("none", V.format(226) + "\n" + directory("/srv/a", "php_value memory_limit none"))
apache("condition", f'<If "true">\n{V.format(227)}\n</If>')
apache(
    "module condition",
    f"<IfModule mod_dir.c>\n{V.format(228)}\n</IfModule>\n<IfModule nothing.c>\n{V.format(229)}\n</IfModule>",
)
apache("version condition", f"<IfVersion >= 2.4>\n{V.format(228)}\n</IfVersion>")
apache(
    "file condition",
    f"<IfFile /etc/nothing>\n{V.format(230)}\n</IfFile>\n<IfFile /etc/hostname>\n{V.format(231)}\n</IfFile>",
)
MACRO = "LoadModule macro_module /usr/lib/apache2/modules/mod_macro.so\n<Macro X>\n" + V.format(232) + "\n</Macro>\n"
apache("macro not used", main=MACRO)
apache("macro used", "Use X", main=MACRO)
apache("another php.ini", main="PHPIniDir /srv/ini\n", **{"/srv/ini/php.ini": "memory_limit = 90M\n"})
apache("access file for another version", main=ALL, **access(f"<IfModule mod_php5.c>\n{V.format(319)}\n</IfModule>"))
apache("access file for any version", main=ALL, **access(f"<IfModule dir_module>\n{V.format(320)}\n</IfModule>"))
apache("flags", "php_flag display_errors on\nphp_flag file_uploads off\nphp_admin_flag allow_url_fopen off")
apache("access file, not allowed", **access(V.format(310)))
apache("access file", ALL, **access(V.format(310)))
apache("access file, options", directory("/srv/a", "AllowOverride Options"), **access(V.format(310)))
apache("access file, others only", directory("/srv/a", "AllowOverride FileInfo"), **access(V.format(310)))
apache(
    "access file, listed",
    directory("/srv/a", "AllowOverride None", "AllowOverrideList php_value"),
    **access(V.format(310)),
)
apache("access file, allowed above", directory("/srv", "AllowOverride All"), **access(V.format(310)))
apache(
    "access file, allowed above and forbidden",
    directory("/srv", "AllowOverride All") + directory("/srv/a", "AllowOverride None"),
    **access(V.format(310)),
)
apache("access file above", directory("/srv", "AllowOverride All"), **{"/srv/.htaccess": V.format(311)})
apache(
    "access file in both",
    directory("/srv", "AllowOverride All"),
    **{"/srv/.htaccess": V.format(311)},
    **access(V.format(310)),
)
apache("access file, admin in it", ALL, **access(A.format(310)))
apache("access file, directory", directory("/srv/a", "AllowOverride All", V.format(312)), **access(V.format(310)))
apache("access file, directory admin", directory("/srv/a", "AllowOverride All", A.format(312)), **access(V.format(310)))
apache("access file, host admin", A.format(313) + "\n" + ALL, **access(V.format(310)))
apache("access file, location", ALL + f"<Location />\n{V.format(314)}\n</Location>", **access(V.format(310)))
apache("access file, files", ALL + f"<Files index.php>\n{V.format(315)}\n</Files>", **access(V.format(310)))
apache(
    "access file with files",
    ALL,
    **access(f"<Files index.php>\n{V.format(316)}\n</Files>\n<Files x.php>\n{V.format(317)}\n</Files>"),
)
apache("access file, the system's own", ALL, **access("php_flag file_uploads off\nphp_value max_input_vars 9"))
apache(
    "access file of another name", ALL, "AccessFileName .my", **{"/srv/a/.my": V.format(318)}, **access(V.format(310))
)
apache("engine off", "php_flag engine off")
apache("engine off in an access file", ALL, **access("php_flag engine off"))
apache("user file", **U300)
apache("path", **{MODULE_INI: PATH_A})
apache("scan directory, host", V.format(211), **{MODULE_INI: "memory_limit = 98M\npost_max_size = 7M\n"})
apache("several", V.format(211) + "\nphp_value post_max_size 6M\nphp_value max_input_vars 3000")
H = HANDED
apache("nothing", H, way="apache-fpm")
apache("user file", H, way="apache-fpm", **U300)
apache("sent", H + 'SetEnv PHP_VALUE "memory_limit=121M"', way="apache-fpm")
apache("sent admin, user file", H + 'SetEnv PHP_ADMIN_VALUE "memory_limit=122M"', way="apache-fpm", **U300)
apache("sent in a directory", H + directory("/srv/a", 'SetEnv PHP_VALUE "memory_limit=123M"'), way="apache-fpm")
apache("sent from an access file", H + ALL, way="apache-fpm", **access('SetEnv PHP_VALUE "memory_limit=124M"'))
apache(
    "sent from an access file that may not",
    H + directory("/srv/a", "AllowOverride Options"),
    way="apache-fpm",
    **access('SetEnv PHP_VALUE "memory_limit=124M"'),
)
apache("sent for some", H + 'SetEnvIf Host "a" PHP_VALUE=memory_limit=125M', way="apache-fpm")
apache("sent by expression", H + 'ProxyFCGISetEnvIf "true" PHP_VALUE "memory_limit=126M"', way="apache-fpm")
apache("value in an access file", H + ALL, way="apache-fpm", **access(V.format(310)))
apache("path", H, way="apache-fpm", **{INI: PATH_A})
apache("pool admin, sent", H + 'SetEnv PHP_VALUE "memory_limit=127M"', way="apache-fpm", **{FPM: POOL + P_ADMIN})


UNKNOWN = {
    *("fpm: sent by request", "proxy: sent for some", "proxy: sent by expression", "module: condition"),
    *("module: version condition", "module: macro used", "fpm: another root is sent"),
    "fpm: another script is sent",
}
"""Those in which the request decides, or what is not followed."""


def files_of(name: str, branch: str, port: int) -> tuple[str, Files]:
    """The web server of a case, and all files of it."""
    server, inner, other, files = CASES[name]
    words = {"branch": branch, "port": port}
    inner = inner.replace("{branch}", branch)
    if server == "nginx":
        text = NGINX.format(server=inner, location=other, **words)
    else:
        text = APACHE.format(server=inner, main=other, **words)
    return server, {SITE["nginx" if server == "nginx" else "apache"]: text, **files}
