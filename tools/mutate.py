"""Change one line of the program at random, run the quick tests, and tell whether they noticed; over and over.

    python tools/mutate.py [COUNT] [SEED]

Works on a clone of the last commit in a temporary folder, with an environment of its own; the working copy stays as it
is.  What deriving holds is left out: it is measured on real applications instead.  A change that nothing notices is
either one that makes no difference or a rule without a test: each is printed as it was and as it was changed.
"""

import ast
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

HOUSE = Path(__file__).parents[1]
LONGEST = 900
"""Seconds after which a run of tests counts as having noticed (a loop without an end)."""
COMPARISONS = {
    ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==",
    ast.In: "not in", ast.NotIn: "in", ast.Is: "is not", ast.IsNot: "is",
}  # fmt: skip


@dataclass(frozen=True)
class Mutation:
    """One line of a file, as it is and as it is changed."""

    path: str
    line: int
    before: str
    after: str


def changed(node: ast.AST, source: str) -> str | None:
    """What stands in the place of an expression or statement in a mutant; None: this is left as it is."""

    def of(part: ast.AST) -> str:
        return ast.get_source_segment(source, part) or ""

    match node:
        case ast.Compare(left=left, ops=[op], comparators=[right]):
            return f"{of(left)} {COMPARISONS[type(op)]} {of(right)}"
        case ast.BoolOp(op=op, values=values):
            return (" or " if isinstance(op, ast.And) else " and ").join(f"({of(value)})" for value in values)
        case ast.UnaryOp(op=ast.Not(), operand=operand):
            return f"bool({of(operand)})"
        case ast.BinOp(left=left, op=ast.Add() | ast.Sub() as op, right=right):
            return f"{of(left)} {'-' if isinstance(op, ast.Add) else '+'} {of(right)}"
        case ast.Constant(value=bool(value)):
            return str(not value)
        case ast.Constant(value=int(value)) if value < 50:
            return str(value + 1)
        case ast.Constant(value=str(value)) if value:
            return f"({of(node)} + 'XX')"
        case ast.Return(value=ast.expr()):
            return "return None"
    return None


def places(tree: ast.AST) -> Iterator[ast.expr | ast.stmt]:
    """Every expression and statement that may be changed.

    No documentation, no type, no part of a formatted text; nor what only guards against mistakes of whoever changes the
    program: that a class is ``frozen``, that ``zip`` is ``strict``.
    """
    for field, value in ast.iter_fields(tree):
        if field in ("annotation", "returns", "type_params") or isinstance(tree, ast.JoinedStr | ast.MatchValue):
            continue
        if isinstance(tree, ast.keyword) and tree.arg in ("frozen", "strict"):
            continue
        if isinstance(tree, ast.Subscript) and isinstance(tree.value, ast.Name) and tree.value.id == "Literal":
            continue
        for child in value if isinstance(value, list) else [value]:
            match child:
                case ast.Expr(value=ast.Constant()):  # documentation
                    continue
                case ast.AST():
                    pass
                case _:
                    continue
            if isinstance(child, ast.expr | ast.stmt):
                yield child
            yield from places(child)


def mutations_of(path: Path, tree: ast.AST, line: int, house: Path) -> list[Mutation]:
    """Every change that can be made in one line of a file."""
    source = path.read_text()
    lines = source.splitlines()
    mutations = []
    for node in places(tree) if source.isascii() else ():
        after = changed(node, source) if node.lineno == node.end_lineno == line else None
        if after is not None:
            mutant = lines[line - 1][: node.col_offset] + after + lines[line - 1][node.end_col_offset :]
            if mutant != lines[line - 1] and _compiles([*lines[: line - 1], mutant, *lines[line:]]):
                mutations.append(Mutation(str(path.relative_to(house)), line, lines[line - 1], mutant))
    return mutations


def _compiles(lines: list[str]) -> bool:
    try:
        ast.parse("\n".join(lines))
    except SyntaxError:
        return False
    return True


def chosen(house: Path, count: int, seed: str) -> list[Mutation]:
    """As many lines as are wanted, each as likely as the other, and one change of each."""
    chance = random.Random(seed)
    files = [path for path in sorted(house.glob("src/fundamentum/**/*.py")) if "derive" not in path.parts]
    weights = [len(path.read_text().splitlines()) for path in files]
    trees = {path: ast.parse(path.read_text()) for path in files}
    taken: dict[tuple[Path, int], Mutation] = {}
    while len(taken) < count:
        path = chance.choices(files, weights)[0]
        line = chance.randint(1, len(path.read_text().splitlines()))
        if (path, line) not in taken and (mutations := mutations_of(path, trees[path], line, house)):
            taken[path, line] = chance.choice(mutations)
    return list(taken.values())


def noticed(house: Path, mutation: Mutation) -> bool:
    """Whether the quick tests fail: first those of the same room, then those that hold whole outputs, then all."""
    tests = house / "tests"
    room = tests / Path(mutation.path).relative_to("src/fundamentum").parts[0]
    first = [str(path) for path in (room, tests / "cli/test_outputs.py") if path.exists()]
    apart = [f"--ignore={tests / name}" for name in ("real", "hostile", "house")]
    for arguments in ([*first], ["-n", "2", *apart, str(tests)]):
        command = [
            str(house / "environment/bin/python"),
            "-m",
            "pytest",
            "-q",
            "-x",
            "-p",
            "no:cacheprovider",
            *arguments,
        ]
        try:
            done = subprocess.run(command, cwd=house, capture_output=True, timeout=LONGEST, check=False)
        except subprocess.TimeoutExpired:
            return True
        if done.returncode not in (0, 5):
            return True
    return False


def main() -> None:
    count, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 60, sys.argv[2] if len(sys.argv) > 2 else "1"
    folder = Path(tempfile.mkdtemp(prefix="mutants-"))
    house = folder / "house"
    try:
        subprocess.run(["git", "clone", "-q", str(HOUSE), str(house)], check=True)
        subprocess.run([sys.executable, "-m", "venv", str(house / "environment")], check=True)
        install = [str(house / "environment/bin/pip"), "install", "-q", "-e", f"{house}[test]"]
        subprocess.run(install, check=True, stderr=subprocess.DEVNULL)
        hits = 0
        for number, mutation in enumerate(chosen(house, count, seed), 1):
            file = house / mutation.path
            whole = file.read_text()
            lines = whole.splitlines(keepends=True)
            lines[mutation.line - 1] = mutation.after + "\n"
            file.write_text("".join(lines))
            start = time.monotonic()
            hit = noticed(house, mutation)
            file.write_text(whole)
            hits += hit
            said = "noticed" if hit else "NOT NOTICED"
            print(f"{number} {said} after {time.monotonic() - start:.0f} s: {mutation.path}:{mutation.line}")
            print(f"    {mutation.before.strip()}\n    {mutation.after.strip()}\n  {hits} of {number}", flush=True)
    finally:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
