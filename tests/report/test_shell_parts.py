"""What a script rests on is in it: every function that it calls, whichever parts of the library it takes."""

import re

import pytest

from fundamentum.report.shell_library import functions_for

WORDS = ("note", "prove", "prove_access", "as_planned", "packages_as_planned", "valid_now", "finish", "write_file x",
         "change_file x", "install_packages x", "install_again x", "switch_on 8.2 fpm x", "switch_part x", "need_source x",
         "let_go x", "make_directory x", "give x", "set_mode x", "grant x", "set_label x", "restart_service x", "reload_service x",
         "start_service x", "enable_service x")  # fmt: skip


@pytest.mark.parametrize("family", ["debian", "redhat"])
@pytest.mark.parametrize("words", WORDS)
def test_every_function_that_is_called_is_there(family: str, words: str) -> None:
    text = "\n".join(functions_for(family, [words]))
    every = "\n".join(functions_for(family, WORDS))
    known = set(re.findall(r"^([a-z_]+)\(\) \{", every, re.M))
    there = set(re.findall(r"^([a-z_]+)\(\) \{", text, re.M))
    code = re.sub(r"<<'([A-Z]+)'.*?^\1$", "", text, flags=re.M | re.S)
    code = re.sub(r"(?m)(^|\s)#.*$", "", re.sub(r"'[^']*'", "", code))
    called = {name for name in known if re.search(rf"(?m)(?<![\w$\"{{=-]){name}(?=[ ;\n]|$)", code)}
    assert words.split(maxsplit=1)[0] in there or family == "redhat"
    missing = {
        name for name in called - there if re.search(rf"(?m)(^\s*|[;&|({{!] *|then |do |else ){name}( |$|;)", code)
    }
    assert not missing


def test_a_quoted_sign_of_a_comment_hides_no_call() -> None:
    body = [
        "write_file /etc/x \\",
        "    '    # what the server answers' \\",
        "    'y'",
        "make_directory /srv/x 750 a a  # it's his",
    ]
    names = {
        line.partition("(")[0]
        for line in functions_for("debian", body)
        if line.endswith(("() {", "}")) or "() {" in line
    }
    assert {"write_file", "make_directory"} <= names
