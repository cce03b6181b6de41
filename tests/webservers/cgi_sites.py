"""Sites of Apache that run PHP as a CGI program, made at random: the ways of naming it, and of letting it be run."""

from random import Random

REPORTED = ("memory_limit", "max_input_vars", "user_agent", "session.gc_maxlifetime")
"""The directives that are set."""
WRAPPER = "/srv/cgi/php-run"


def value(dice: Random, name: str) -> str:
    size, number = dice.choice(["64M", "200M", "1G"]), str(dice.choice([17, 900, 4000]))
    return {"memory_limit": size, "user_agent": dice.choice(["x", "y z", '"q;r"'])}.get(name, number)


def ini(dice: Random, count: int) -> str:
    return "".join(f"{name} = {value(dice, name)}\n" for name in dice.sample(REPORTED, count))


def wrapper(dice: Random, program: str) -> str:
    """A script that starts PHP."""
    first = dice.choice(["", "export PHPRC=/srv/b/etc\n", "PHP_INI_SCAN_DIR=/srv/scan\nexport PHP_INI_SCAN_DIR\n"])
    options = dice.choice(["", " -c /srv/b/etc", " -d memory_limit=77M", " -n"])
    return f"#!/bin/sh\n{first}exec {program}{options}\n"


class Site:
    """The lines of the main server, and of one host."""

    def __init__(self, dice: Random) -> None:
        self.dice, self.main, self.own = dice, "", ""

    def put(self, line: str, *, anywhere: bool = True) -> None:
        """Writes a line for the server, the host, or its directory."""
        place = self.dice.random()
        if place < 0.35:
            self.main += line
        elif place < 0.8 or not anywhere:
            self.own += line
        else:
            self.own += f"<Directory /srv/a>\n{line}</Directory>\n"

    def by_action(self, branch: str, wrapped: bool) -> None:
        kind = self.dice.choice(["application/x-httpd-php", "x-php-own", "application/x-httpd-php82"])
        folder, name = ("/srv/cgi/", "php-run") if wrapped else ("/usr/lib/cgi-bin/", f"php{branch}")
        whole = self.dice.random() < 0.7
        self.put(
            f"ScriptAlias /own/ {folder}\n" if whole else f"ScriptAlias /own/{name} {folder}{name}\n", anywhere=False
        )
        self.put(f"Action {kind} /own/{name}\n")
        set_so = f'<FilesMatch "\\.php$">\nSetHandler {kind}\n</FilesMatch>\n'
        self.put(self.dice.choice([f"AddType {kind} .php\n", f"AddHandler {kind} .php\n", set_so]))
        if self.dice.random() < 0.4:
            self.put(f"SetEnv PHPRC {self.dice.choice(['/srv/b/etc', '/srv/none'])}\n")

    def by_fcgid(self, program: str) -> None:
        set_so = '<FilesMatch "\\.php$">\nSetHandler fcgid-script\n</FilesMatch>\n'
        self.put(self.dice.choice(["AddHandler fcgid-script .php\n", set_so]))
        directive = self.dice.choice(["FcgidWrapper", "FCGIWrapper"])
        self.put(self.dice.choice([f"{directive} {program} .php\n", f'{directive} "{program}" .php\n']))
        if self.dice.random() < 0.4:
            self.put(f"FcgidInitialEnv PHPRC {self.dice.choice(['/srv/b/etc', '/srv/none'])}\n", anywhere=False)


def made(seed: int, port: int, branch: str) -> tuple[dict[str, str], bool]:
    """The files of a server, and whether it runs programs by mod_fcgid."""
    dice = Random(seed)
    site, fcgid, wrapped = Site(dice), dice.random() < 0.5, dice.random() < 0.4
    program = dice.choice([f"/usr/bin/php-cgi{branch}", f"/usr/lib/cgi-bin/php{branch}"])
    files = {"/srv/b/etc/php.ini": ini(dice, 2), "/srv/scan/1.ini": ini(dice, 2)}
    files |= {WRAPPER: wrapper(dice, program)} if wrapped else {}
    files |= {"/srv/a/.user.ini": ini(dice, 2)} if dice.random() < 0.4 else {}
    files |= {f"/etc/php/{branch}/cgi/conf.d/90-x.ini": ini(dice, 2)} if dice.random() < 0.4 else {}
    if fcgid:
        site.by_fcgid(WRAPPER if wrapped else program)
    else:
        site.by_action(branch, wrapped)
    run = dice.choice(["Options +ExecCGI\n"] * 4 + ["Options None\n", "Options Indexes\n", ""])
    granted = dice.choice(["Require all granted\n"] * 5 + [""])
    files["/etc/apache2/sites-enabled/site.conf"] = (
        f"Listen 127.0.0.1:{port}\nServerName l\nDirectoryIndex index.php\n{site.main}"
        f"<VirtualHost 127.0.0.1:{port}>\nServerName a\nDocumentRoot /srv/a\n{site.own}</VirtualHost>\n"
        f"<Directory /srv>\nAllowOverride None\n{run}</Directory>\n<Directory /srv/a>\nRequire all granted\n</Directory>\n"
        f"<Directory /srv/cgi>\n{granted}</Directory>\n"
    )
    return files, fcgid
