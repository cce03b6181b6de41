"""How large a body may be where mod_security inspects requests: what is said where, and what that comes to.

The same lines mean something else in nginx than in Apache.
"""

LARGE = 3_000_000
"""Bytes of the file that a real server is sent."""
_ON = "SecRuleEngine On\nSecRequestBodyAccess On\n"
_RULE = 'SecRule REQUEST_URI "@beginsWith /" \\\n    "id:1,phase:1,nolog,pass,ctl:{}"\n'
Case = tuple[str, str, str, list[str]]
CASES: dict[str, Case] = {  # for the server, for the host, for the directory; the sizes that are told
    "nothing": ("", "", "", []),
    "it does not run": ("SecRequestBodyAccess On\nSecRequestBodyLimit 1000000\n", "", "", []),
    "bodies are not its business": ("SecRuleEngine On\nSecRequestBodyLimit 1000000\n", "", "", []),
    "a limit": (_ON + "SecRequestBodyLimit 1000000\n", "", "", ["1000000"]),
    "only noted": (_ON.replace(" On\nSecReq", " DetectionOnly\nSecReq") + "SecRequestBodyLimit 1000000\n", "", "", ["1000000"]),
    "only the beginning": (_ON + "SecRequestBodyLimit 1000000\nSecRequestBodyLimitAction ProcessPartial\n", "", "", ["1000000"]),
    "as it comes": (_ON, "", "", ["134217728"]),
    "the last line": (_ON + "SecRequestBodyLimit 1000000\nSecRequestBodyLimit 9000000\n", "", "", ["9000000"]),
    "more for the host": (_ON + "SecRequestBodyLimit 1000000\n", "SecRequestBodyLimit 9000000\n", "", ["9000000"]),
    "not for the host": (_ON + "SecRequestBodyLimit 1000000\n", "SecRuleEngine Off\n", "", []),
    "no bodies of the host": (_ON + "SecRequestBodyLimit 1000000\n", "SecRequestBodyAccess Off\n", "", []),
    "more for the directory": (_ON + "SecRequestBodyLimit 1000000\n", "", "SecRequestBodyLimit 9000000\n", ["1000000", "9000000"]),
    "less for the directory": (_ON + "SecRequestBodyLimit 9000000\n", "", "SecRequestBodyLimit 1000000\n", ["9000000", "1000000"]),
    "not for the directory": (_ON + "SecRequestBodyLimit 1000000\n", "", "SecRuleEngine Off\n", ["1000000"]),
    "for the directory alone": ("SecRequestBodyAccess On\nSecRequestBodyLimit 1000000\n", "", "SecRuleEngine On\n", ["1000000"]),
    "a rule takes less": (_ON + _RULE.format("requestBodyLimit=1000000"), "", "", ["134217728", "not the same for all requests"]),
    "a rule of something else": (_ON + _RULE.format("ruleRemoveById=4"), "", "", ["134217728"]),
    "a rule where it does not run": (_RULE.format("requestBodyLimit=1000000"), "", "", []),
}  # fmt: skip
HOST = """\
<VirtualHost 127.0.0.1:{port}>
    ServerName plates.observatory.example
    DocumentRoot /srv/a
    {host}
    <FilesMatch "\\.php$">
        SetHandler "proxy:unix:/run/php/php8.2-fpm.sock|fcgi://localhost"
    </FilesMatch>
    <Directory /srv/a>
        Require all granted
        {folder}
    </Directory>
</VirtualHost>
"""


def refused(sizes: list[str]) -> bool | None:
    """Whether a server with these limits takes the large file; None: that cannot be told."""
    if any(size.isdigit() and int(size) < LARGE for size in sizes):
        return True
    return None if any(not size.isdigit() for size in sizes) else False


_REJECT = _ON + "SecRequestBodyLimitAction Reject\n"
_SMALL = _REJECT + "SecRequestBodyLimit 1000000\n"
NGINX_CASES: dict[str, Case] = {  # the rules; for the server, for the location; the sizes that are told
    "nothing": ("", "", "", []),
    "a limit": (_SMALL, "", "", ["1000000"]),
    "no action": (_ON + "SecRequestBodyLimit 1000000\n", "", "", []),
    "only noted": (_SMALL.replace("Engine On", "Engine DetectionOnly"), "", "", []),
    "bodies are not its business": (_SMALL.replace("Access On", "Access Off"), "", "", ["1000000"]),
    "as it comes": (_REJECT, "", "", []),
    "it does not run": (_SMALL.replace("Engine On", "Engine Off"), "", "", []),
    "not for the server": (_SMALL, "modsecurity off;", "", []),
    "not for the location": (_SMALL, "", "modsecurity off;", []),
    "more for the location": (_SMALL, "", "modsecurity_rules 'SecRequestBodyLimit 9000000';", ["9000000"]),
    "less for the server": (_REJECT + "SecRequestBodyLimit 9000000\n", "modsecurity_rules 'SecRequestBodyLimit 1000000';", "", ["1000000"]),
    "the last line": (_SMALL + "SecRequestBodyLimit 9000000\n", "", "", ["9000000"]),
    "included": ("Include /etc/nginx/more.conf\n" + _REJECT, "", "", ["1000000"]),
    "included before": ("Include /etc/nginx/more.conf\n" + _REJECT + "SecRequestBodyLimit 9000000\n", "", "", ["9000000"]),
    "a rule lets it run": (_SMALL.replace("Engine On", "Engine DetectionOnly") + _RULE.format("ruleEngine=On"), "", "", ["not known"]),
    "rules that are not there": (_SMALL, "", "modsecurity_rules_file /etc/nginx/nowhere.conf;", ["not known"]),
}  # fmt: skip
NGINX = """\
modsecurity on;
modsecurity_rules_file /etc/nginx/rules.conf;
client_max_body_size 100m;
server {{
    listen 127.0.0.1:{port};
    server_name plates.observatory.example;
    root /srv/a;
    index index.php;
    {host}
    location ~ \\.php$ {{
        {folder}
        include snippets/fastcgi-php.conf;
        fastcgi_pass unix:/run/php/php8.2-fpm.sock;
    }}
}}
"""
