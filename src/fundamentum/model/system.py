"""The operating system of a server."""

from fundamentum.model.safe_text import Text
from fundamentum.model.survey_fact import Fact


class System(Fact, frozen=True):
    """The operating system, from ``/etc/os-release`` and the package database."""

    family: Text = "unknown"
    """``debian`` or ``redhat`` where their package database is there, ``windows``, ``page`` where only an information
    page was to be had, else ``unknown``."""
    id: Text = ""
    name: Text = ""
    release: Text = ""
    codename: Text = ""
    architecture: Text = ""
