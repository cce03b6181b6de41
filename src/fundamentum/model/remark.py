"""A remark: what could not be read on a server, and what is therefore unknown."""

from fundamentum.model.fact import Fact
from fundamentum.model.text import Text


class Remark(Fact, frozen=True):
    """Something that could not be read, or was read only in part: what is therefore unknown, and why."""

    about: Text
    why: Text
