"""The loops of a program that is tried out."""

from functools import partial
from typing import Any, Final

from fundamentum.derive.trying.machine import Break, Continue, Given, Leave
from fundamentum.derive.trying.objects import Objects
from fundamentum.derive.trying.parts import Part
from fundamentum.derive.trying.values import UNKNOWN, Array, Instance, Loaded, OneOf, Unknown, truth

MAX_TURNS: Final = 120
"""Turns of one loop."""
MANY_TURNS: Final = 12
"""Turns of a loop that asks nothing."""


class Turns(Objects):
    """The layer that goes through loops."""

    def _further(self, leave: Leave) -> None:
        """Out of what is around, too, if it was said so."""
        if isinstance(leave.value, int) and leave.value > 1:
            raise type(leave)(leave.value - 1)

    def _foreach(self, part: Part) -> None:
        body = part.get("body")
        parts = part.kids
        if body is None or len(parts) < 3:
            return
        source, target = self.evaluate(parts[0]), parts[1]
        if isinstance(source, OneOf):
            self.fork(*(partial(self._turns_over, perhaps, parts[0], target, body) for perhaps in source.values))
        else:
            self._turns_over(source, parts[0], target, body)

    def _turns_over(self, looped: Any, source: Part, target: Part, body: Part) -> None:
        if isinstance(looped, Instance) and (held := self.gone_through(looped)) is not None:
            looped = held
        if isinstance(looped, Loaded):  # whichever of them: what it is held against is asked for
            self._turn(target, UNKNOWN, looped, body)
            return
        if not isinstance(looped, Array):
            if isinstance(looped, (Unknown, Instance)):
                self.fork(lambda: self._turn(target, UNKNOWN, UNKNOWN, body), lambda: None)
            return
        by_reference = "&" in target.text
        before = self.world.answers
        for turn, (key, value) in enumerate(list(looped.items.items())[:MAX_TURNS]):
            if turn == MANY_TURNS and self.world.answers == before:
                self.fork(lambda: self._turn(target, UNKNOWN, UNKNOWN, body), lambda: None)
                return  # nothing is asked for in it
            if not self._turn(target, key, value, body):
                return
            if by_reference:
                self._write_back(source, target, key)
        for value in looped.more if looped.more else [UNKNOWN] if looped.loose else []:
            self.fork(partial(self._turn, target, UNKNOWN, value, body), lambda: None)

    def gone_through(self, instance: Instance) -> Any:
        """What a loop over an object goes through: what its ``getIterator`` gives, or its properties."""
        method, kind = self.method(instance.kind, "getiterator")
        if method is not None:
            return self.call_part(method, Given([], {}, {}), instance, kind)
        if self.method(instance.kind, "valid")[0] is not None:
            return self._iterated(instance)
        return (
            Array({name: cell.value for name, cell in instance.members.items()}) if instance.kind.part is None else None
        )

    def _iterated(self, instance: Instance) -> Any:
        """What an iterator of the program's own gives, one after the other."""

        def called(name: str) -> Any:
            return self.call_method(instance, name, Given.of())

        array = Array()
        called("rewind")
        for _ in range(MAX_TURNS):
            if truth(called("valid")) is not True:
                break
            key = called("key")
            array = array.with_item(key if isinstance(key, (int, str)) else None, called("current"))
            called("next")
        return array if array.items else UNKNOWN

    def _write_back(self, source: Part, target: Part, key: Any) -> None:
        value = target.kids[-1] if target.type == "pair" else target
        inner = value.kids[0] if value.type == "by_ref" else value
        now = self.evaluate(source)
        if isinstance(now, Array):
            self.assign(source, now.with_item(key, self.evaluate(inner)))

    def _turn(self, target: Part, key: Any, value: Any, body: Part) -> bool:
        """One turn of a loop over a list; whether there is another."""
        if target.type == "pair":
            self.assign(target.kids[0], key)
            self.assign(_plain_target(target.kids[-1]), value)
        else:
            self.assign(_plain_target(target), value)
        return self._once(body)

    def _once(self, body: Part) -> bool:
        try:
            self.execute(body)
        except Break as leave:
            self._further(leave)
            return False
        except Continue as leave:
            self._further(leave)
        return True

    def _while(self, part: Part) -> None:
        body = part.get("body")
        if body is None:
            return
        first = part.type == "do_statement"
        for _ in range(MAX_TURNS):
            told = True if first else truth(self.evaluate(part.get("condition")))
            first = False
            if told is None:
                self.fork(lambda: self._once(body), lambda: None)
                return
            if not told or not self._once(body):
                return

    def _for(self, part: Part) -> None:
        body, condition, update = part.get("body"), part.get("condition"), part.get("update")
        if (begins := part.get("initialize")) is not None:
            self.evaluate(begins)
        before = self.world.answers
        for turn in range(MAX_TURNS):
            if turn == MANY_TURNS and self.world.answers == before:
                return
            told = truth(self.evaluate(condition)) if condition is not None else True
            if told is None and body is not None:
                self.fork(lambda: self._once(body), lambda: None)
                return
            if not told or body is None or not self._once(body):
                return
            if update is not None:
                self.evaluate(update)


def _plain_target(target: Part) -> Part:
    return target.kids[0] if target.type == "by_ref" else target
