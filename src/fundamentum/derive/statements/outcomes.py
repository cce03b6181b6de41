"""What a branch of a program comes to: it ends, it reports an error, it recommends something, or neither."""

import re
from typing import Final

from tree_sitter import Node

from fundamentum.derive.php_source.facts import Outcome
from fundamentum.derive.php_source.nodes import (
    Patience,
    arguments,
    called,
    children,
    field,
    function_around,
    inside,
    text,
)

STRENGTH: Final[tuple[Outcome, ...]] = ("", "warns", "reports", "stops")
"""What a branch may come to, the weakest first."""
WARNING: Final = re.compile(r"warn|recommend|optional|suggest|notice|advis|hint", re.I)
"""How what only recommends something is called."""
COLLECTORS: Final = re.compile(
    r"err(?:or|s\b|$)|fail|missing|problem|fatal|issue|incompat|unmet|critical|abort|not_?ok|unsupported|halt|"
    r"deactivate|bail|lacking|erreur|fehler",
    re.I,
)
"""How what holds errors, or tells of one, is called."""
_OF_ERRORS: Final = re.compile(
    r"^error_reporting$|error_handler$|^error_(?:get|clear)_last$|_last_error(?:_msg)?$|_err(?:no|or)$"
)
"""Functions of PHP itself that tell of no error by being called."""
_ASKS: Final = r"requir|need|at least|minimum|upgrade|(?:not |in)compatible|does not (?:run|work)"
_NEEDS: Final = re.compile(
    rf"\bPHP\b.{{0,80}}(?:{_ASKS}|or (?:newer|higher|later|greater|above)|too old|not supported|version|unsupported|"
    rf"incompatible)|(?:{_ASKS}).{{0,80}}\bPHP\b|"
    r"\bplease (?:install|enable)\b|"
    r"\bmissing (?:PHP )?(?:extension|module|requirement)s?\b|"
    r"\b(?:extension|module|requirement|prerequisite|function)s? (?:(?:is|are|was|were|must be|has been|have been) )?"
    r"(?:currently )?(?:missing|required|blocked|disabled|"
    r"not (?:met|fulfilled|satisfied|installed|loaded|available|enabled))\b",
    re.I | re.S,
)
"""Texts that ask for a version of PHP, or tell that something is missing."""
_ENDS: Final = frozenset({"exit_statement", "throw_expression", "throw_statement"})
_ENDING: Final = re.compile(r"^(?:exit|die|abort|deactivate_plugins)$|_die$")
_FINE: Final = re.compile(
    r"ok|success|pass(?!w)|valid|good|support|satisf|compat|ready|can_?(?:install|run|continue|proceed)|proceed|result",
    re.I,
)
"""How variables are called that tell whether all is well."""
MISSING: Final = re.compile(
    r"missing|not (?:be )?(?:installed|found|loaded|available|enabled|present|supported)|required|must be|"
    r"please install|error",
    re.I,
)
"""Words for what is not there, and is asked for."""
_SEVERITY: Final = re.compile(
    r"['\"](?:severity|level|type|status)['\"]\s*=>\s*['\"]?[\w\\:]*?(?P<level>error|critical|fatal|warning)\b|"
    r"=>\s*(?:\w{1,12}\(\s*)?['\"](?P<word>bad|error|critical|fatal|failed|warning|unsure|ugly|info|notice|optional|recommended)['\"]",
    re.I,
)
"""How bad it is, as the entry of a table of results says."""
_OF_SEVERITY: Final = re.compile(r"\[['\"](?:severity|level|type|status)['\"]\]$", re.I)
_LEVEL: Final = re.compile(r"(error|critical|fatal|warning)\b", re.I)
"""The same, given to its key: ``$results['gd']['severity'] = self::ERROR``"""
_ERROR_SHOWN: Final = re.compile(r"\$(?:this->)?_?errors?\[['\"]warnings?['\"]\]", re.I)
"""An error that a page shows at the place for warnings: ``$this->error['warning'] = '...'``"""
_LEVELED: Final = re.compile(
    r"(?:^|[(,])\s*(?:['\"](?P<word>warning|warn|notice|error|danger|critical|fatal|important)['\"]|"
    r"[\w\\:]*?(?P<constant>WARN|WARNING|NOTICE|ERROR|CRITICAL|FATAL))\s*[,)]"
)
_BAD: Final = r"(?:(WARN(?:ING)?|NOTICE)|FATAL|ERROR|FAIL(?:ED|URE)?|CRITICAL)$"
_CONSTANT: Final = re.compile(rf"(?:::|^|_){_BAD}", re.I)
"""A constant that says how bad it is: ``$ok ? self::CHECK_OK : self::CHECK_FATAL``, ``Severity::Error``"""
_PLAIN_CONSTANT: Final = re.compile(rf"(?!E_|LOG_|LIBXML_|MYSQLI_)[A-Z][A-Z\d_]*_{_BAD}")
"""The same of no class, and none of PHP's own: ``$ok ? REQUIREMENT_OK : REQUIREMENT_ERROR``"""
_TELLING: Final = re.compile(
    r"log|msg|message|flash|notif|alert|report|trigger|add|push|put|label|badge|icon|row|mark|status", re.I
)
"""Functions that are told how bad it is: ``flash('warning', ...)``, ``log::msg(..., log::WARN)``"""
_FAILED: Final = re.compile(r"return\s+\(?[\w\\]+::\w*(?:FAIL(?:URE|ED)?|ERROR|INVALID|CRITICAL)\b")
"""How a command, or one of many checks, says what came of it: ``return Command::FAILURE``"""
_UNAVAILABLE: Final = re.compile(
    r"return\b[^;]*(?:response|withstatus|abort|render|view|json)\w*\([^;]*?\b50[03]\b", re.I
)
_STATUS: Final = re.compile(r"^http_response_code\(\s*50[03]\b|['\"]HTTP/[\d.]+ 50[03]\b|,\s*50[03]\s*\)$", re.I)
_NOTICES: Final = re.compile(r"\(\s*['\"]\w*admin_notices['\"]")
_TELLS: Final = frozenset({"http_response_code", "header", "add_action", "trigger_error", "error_log", "printf"})


MAX_TAG: Final = 200
_DISABLED: Final = re.compile(r"['\"]?\s*disabled(?:=\W?\w*\W?)?\s*['\"]?", re.I)
_BUTTON: Final = re.compile(r"<(?:button\b|input\b[^<]*submit|a\b[^<]*(?:btn|button))(?:[^<]|<\?)*$", re.I)
"""A button of a page that is there and cannot be used: ``<button <?= $ok ? '' : 'disabled' ?>>``"""
_BLOCK: Final = "compound_statement"


def gives_up(branch: Node) -> bool:
    """Whether it tells something and leaves a file's own code: ``{ echo 'PHP 8.1 is needed'; return; }``"""
    lines = children(branch)
    if branch.type != _BLOCK or not lines or text(lines[-1]).rstrip(";").strip().lower() != "return":
        return False
    told = (node for line in lines[:-1] for node in inside(line))
    return not function_around(branch) and any(
        node.type in ("echo_statement", "print_intrinsic") or called(node) in _TELLS for node in told
    )


def ends(node: Node) -> bool:
    """Whether a statement or an expression ends the program, or the function around by an exception."""
    bare = node.type == "name" and text(node).lower() in ("exit", "die")  # without brackets it is read as a constant
    ending = bare or node.type in _ENDS or _ENDING.search(called(node)) is not None
    return ending or (called(node) in ("trigger_error", "user_error") and "E_USER_ERROR" in text(node))


def refused(node: Node) -> bool:
    """Whether the visitor gets nothing but an error: ``return new Response('...', 503)``, or a header"""
    if called(node) in ("http_response_code", "header"):
        return _STATUS.search(text(node)[:200]) is not None
    return node.type == "return_statement" and _UNAVAILABLE.match(_returned(node)[:400]) is not None


def _returned(node: Node) -> str:
    """A ``return`` as text, with what was given to the variable right before where it is one."""
    before = node.prev_named_sibling
    given = before.named_children[0] if before is not None and before.type == "expression_statement" else None
    name, value = field(given, "left"), field(given, "right")
    kept = name is not None and text(name) == text(node).removeprefix("return").strip(" ;")
    return f"return {text(value)};" if kept else text(node)


def notifies(node: Node) -> bool:
    """Whether a plug-in puts a notice on the pages of those who look after it: ``add_action('admin_notices', ...)``"""
    return called(node) == "add_action" and _NOTICES.search(text(node)[:80]) is not None


def _before(node: Node) -> str:
    """What stands before a place in its file, as far as one tag of a page may reach."""
    end = node.start_byte
    while node.parent is not None:
        Patience.tick()
        node = node.parent
    return (node.text or b"")[max(end - MAX_TAG, 0) : end].decode("utf-8", "replace")


def _given(node: Node) -> tuple[str, str] | None:
    """What is given to which variable: by an assignment, or put to a list by ``array_push($errors, ...)``"""
    if node.type in ("assignment_expression", "augmented_assignment_expression"):
        return text(field(node, "left")), text(field(node, "right"))[:400]
    if called(node) in ("array_push", "array_unshift") and len(put := arguments(node)) > 1:
        return text(put[0]), text(put[1])[:400]
    return None


def reported(node: Node, extension: bool) -> Outcome:
    """Whether one place reports something: in a list of errors, by a call that is named so, or by what it prints."""
    if (given := _given(node)) is not None:
        target, value = given
        if WARNING.search(target) and not _ERROR_SHOWN.fullmatch(target):
            return "warns"
        if level := _SEVERITY.search(value) or (_OF_SEVERITY.search(target) and _LEVEL.search(value)):
            said = next(filter(None, level.groups())).lower()
            return "reports" if said in ("bad", "error", "critical", "fatal", "failed") else "warns"
        bad = _FINE.search(target) and value.lower() in ("false", "0")
        return "reports" if bad or COLLECTORS.search(target) else ""
    if name := called(node):
        level = _LEVELED.search(text(field(node, "arguments"))[:400]) if _TELLING.search(name) else None
        if level is not None:
            return "warns" if (level["word"] or level["constant"]).lower()[:4] in ("warn", "noti") else "reports"
        if WARNING.search(name):
            return "warns"
        if COLLECTORS.search(name) and not _OF_ERRORS.search(name):
            return "reports"
    if node.type == "class_constant_access_expression" and (level := _CONSTANT.search(text(node))):
        return "warns" if level[1] else "reports"
    if node.type == "name" and (level := _PLAIN_CONSTANT.fullmatch(text(node))):
        return "warns" if level[1] else "reports"
    if node.type == "return_statement" and _FAILED.match(text(node)):
        return "reports"
    if node.type == "yield_expression" and COLLECTORS.search(function_around(node)):
        return "reports"
    said = text(node) if node.type in ("string", "encapsed_string", "text") else ""
    if _DISABLED.fullmatch(said) and _BUTTON.search(_before(node)):
        return "reports"
    if said and (_NEEDS.search(said) or (extension and MISSING.search(said))):
        return "warns" if WARNING.search(said) else "reports"
    return ""


def refuses(branch: Node) -> bool:
    """Whether the program goes no further in a branch, or reports an error there."""
    return any(ends(node) or reported(node, True) in ("reports", "stops") for node in inside(branch))
