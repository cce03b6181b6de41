"""What a playbook runs of the plan's script: what is looked at first, the journal, the proof."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.server_operations import MakeDatabase
from fundamentum.model.file_mark import HOST_NAME
from fundamentum.plan.made_plan import Plan
from fundamentum.platforms import platform
from fundamentum.report.ansible_text import Ours, ScriptText, question_of, task_of, words_of
from fundamentum.report.plans.script import in_shell, looks, part, proof


class Parts:
    """The parts of the plan's script that a playbook runs: what is looked at first, the journal, the proof.

    It is run on servers that are like the one it was made for, so that the name of the server does not count.
    """

    def __init__(self, plan: Plan) -> None:
        marks = {path: mark for path, mark in plan.rests_on.items() if path != HOST_NAME}
        self.plan = replace(plan, rests_on=marks)
        self.variables: dict[str, str] = {}
        if not plan.empty:
            self.variables = {"plan_journal": ScriptText(part(self.plan, ['note "$@"'], act=True))}
        if looked := looks(self.plan):
            self.variables["plan_looks"] = ScriptText(part(self.plan, looked, act=False))
        for step in plan.steps:
            if isinstance(step.operation, MakeDatabase):
                body = ["keep=$backups/$1-$plan", *in_shell(step.operation, platform(plan.family)), "finish"]
                self.variables[database_variable(step.operation)] = ScriptText(part(self.plan, body, act=True))
        if plan.proofs:
            self.variables["plan_proof"] = ScriptText(part(self.plan, [*proof(self.plan), "finish"], act=True))

    def looks(self) -> Iterator[dict[str, Any]]:
        """Stops where the server is no longer as planned; takes the time, for the journal."""
        if "plan_looks" in self.variables:
            task = script_task("See whether everything is as it was when this was planned", "plan_looks")
            yield task | {"changed_when": False, "check_mode": False}
        if "plan_journal" in self.variables:
            yield question_of("See what time it is", "begun", words_of("date +%Y%m%dT%H%M%S"))

    def proof(self) -> Iterator[dict[str, Any]]:
        """Once services have taken everything up: asks PHP itself."""
        yield {"name": Ours("Let services take it up"), "ansible.builtin.meta": Ours("flush_handlers")}
        if "plan_journal" in self.variables:
            yield noted("Write down what there is now", "left") | {"changed_when": False}
        if "plan_proof" in self.variables:
            task = script_task("Ask PHP itself for what was promised", "plan_proof")
            yield task | {"changed_when": False, "when": Ours("not (skip_restart | default(false) | bool)")}


def database_variable(operation: MakeDatabase) -> str:
    """The name of the variable with the part that makes a database."""
    return f"plan_database_{operation.name}"


def script_task(title: str, variable: str, *words: str) -> dict[str, Any]:
    """A part of the plan's script."""
    argv = [Ours("sh"), Ours("-s"), Ours("--"), *words]
    return task_of(title, "command", argv=argv, stdin=Ours(f"{{{{ {variable} }}}}"))


def noted(title: str, *words: str) -> dict[str, Any]:
    """Writes the way back into the journal of this run."""
    return script_task(title, "plan_journal", Ours("{{ begun.stdout }}"), *words)
