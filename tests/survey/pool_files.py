"""Files of pools that a process manager takes, or refuses to start with: its answer, and what is said."""

POOL = "[www]\nuser = www-data\nlisten = /run/x.sock\npm = static\npm.max_children = 2\n"
DYNAMIC = POOL.replace("static", "dynamic").replace("children = 2", "children = 5")
TAKEN = ""
CASES: dict[str, tuple[str, str]] = {  # lines for all pools stand before the first section
    "as it is": (POOL, TAKEN),
    "what it does not know": (f"{POOL}foo = bar\n", "'foo' is nothing that it knows"),
    "the same for all pools": (f"foo = bar\n{POOL}", "'foo' is nothing that it knows for all pools"),
    "what is a pool's, for all": (f"pm = static\n{POOL}", "'pm' is nothing that it knows for all pools"),
    "a value without a name": (f"{POOL}php_value = 3\n", "'php_value' is nothing that it knows"),
    "values with names": (f"{POOL}php_value[a] = 3\nenv[A] = b\nphp_admin_flag[b] = on\n", TAKEN),
    "a name in brackets": (f"{POOL}pm.max_children[a] = 3\n", "'pm.max_children[...]' is nothing that it knows"),
    "another way": (POOL.replace("static", "fast"), "pm = fast is none of static, dynamic, ondemand"),
    "no processes": (POOL.replace("children = 2", "children = 0"), "pm.max_children is not above 0"),
    "less than none": (POOL.replace("children = 2", "children = -2"), "pm.max_children is not above 0"),
    "no number": (POOL.replace("children = 2", "children = two"), "pm.max_children = two is no number"),
    "no most": (POOL.replace("pm.max_children = 2\n", ""), "pm.max_children is not above 0"),
    "bare": (DYNAMIC, "pm.min_spare_servers and pm.max_spare_servers have to be above 0"),
    "spare ones": (f"{DYNAMIC}pm.start_servers = 2\npm.min_spare_servers = 1\npm.max_spare_servers = 3\n", TAKEN),
    "no first": (f"{DYNAMIC}pm.min_spare_servers = 1\npm.max_spare_servers = 3\n", TAKEN),
    "too many first": (f"{DYNAMIC}pm.start_servers = 4\npm.min_spare_servers = 1\npm.max_spare_servers = 3\n", "pm.start_servers (4) is not between the spare ones (1 and 3)"),
    "too few first": (f"{DYNAMIC}pm.start_servers = 1\npm.min_spare_servers = 2\npm.max_spare_servers = 3\n", "pm.start_servers (1) is not between"),
    "too many spare": (f"{DYNAMIC}pm.min_spare_servers = 1\npm.max_spare_servers = 6\n", "pm.min_spare_servers (1) and pm.max_spare_servers (6) exceed pm.max_children (5)"),
    "most below least": (f"{DYNAMIC}pm.min_spare_servers = 3\npm.max_spare_servers = 2\n", "pm.max_spare_servers (2) is less than pm.min_spare_servers (3)"),
    "on demand": (POOL.replace("static", "ondemand"), TAKEN),
    "on demand, and gone at once": (POOL.replace("static", "ondemand") + "pm.process_idle_timeout = 0s\n", "pm.process_idle_timeout is 0"),
    "one socket for two": (POOL + POOL.replace("[www]", "[b]"), "the pools www and b both listen at /run/x.sock"),
    "a socket for each": (POOL.replace("x.sock", "$pool.sock") + POOL.replace("[www]", "[b]").replace("x.sock", "$pool.sock"), TAKEN),
    "a section twice": (f"{POOL}[www]\npm.max_children = 3\n", TAKEN),
    "neither on nor off": (f"{POOL}clear_env = maybe\n", "clear_env = maybe is neither on nor off"),
    "on": (f"{POOL}clear_env = no\ncatch_workers_output = yes\n", TAKEN),
    "no time": (f"{POOL}request_terminate_timeout = soon\n", "request_terminate_timeout = soon is no time"),
    "a time": (f"{POOL}request_terminate_timeout = 5m\n", TAKEN),
    "slow, and no log": (f"{POOL}request_slowlog_timeout = 5\n", "request_slowlog_timeout is set, and no slowlog"),
    "slower than it may be": (f"{POOL}slowlog = /tmp/s\nrequest_slowlog_timeout = 50\nrequest_terminate_timeout = 5\n", "request_slowlog_timeout (50 s) is longer"),
    "a page without a path": (f"{POOL}pm.status_path = status\n", "pm.status_path = status is no path"),
    "a page of nothing": (f"{POOL}ping.path = /\n", "ping.path = / is no path"),
    "no such directory": (f"{POOL}chdir = /srv/nowhere\n", "chdir = /srv/nowhere: there is no directory /srv/nowhere"),
    "shut into nothing": (f"{POOL}chroot = /srv/nowhere\n", "chroot = /srv/nowhere: there is no directory"),
    "from nowhere": (f"{POOL}prefix = /srv/nowhere\n", "prefix = /srv/nowhere: there is no directory"),
    "a log nowhere": (f"{POOL}access.log = /srv/nowhere/x.log\n", "access.log = /srv/nowhere/x.log: there is no directory"),
    "a slow log nowhere, for nothing": (f"{POOL}slowlog = /srv/nowhere/x.log\n", TAKEN),
    "an odd level": (f"log_level = loud\n{POOL}", "log_level = loud is no level"),
    "a broken line": (f"{POOL}php_value[x] = a(b\n", "a syntax error"),
}  # fmt: skip
OF_SYSTEM: dict[str, tuple[str, str]] = {  # the manager of PHP 7.4 finds these out only once it starts
    "no such user": (POOL.replace("www-data", "nobody-there"), "user = nobody-there is not there"),
    "no such group": (f"{POOL}group = nobody-there\n", "group = nobody-there is not there"),
    "a socket of nobody": (f"{POOL}listen.owner = nobody-there\n", "listen.owner = nobody-there is not there"),
    "by numbers": (f"{POOL}group = 33\n", TAKEN),
}
OF_BRANCHES: dict[str, tuple[str, str]] = {  # line, and the first branch that knows it
    "where it tells how it is": ("pm.status_listen = 127.0.0.1:9001", "8.0"),
    "how fast it grows": ("pm.max_spawn_rate = 3", "8.2"),
    "what is not logged": ("access.suppress_path[] = /x", "8.2"),
}
