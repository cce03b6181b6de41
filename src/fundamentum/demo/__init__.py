"""The example that ships with the program: a small volunteer observatory and its servers."""

from typing import Final

import msgspec


class Scene(msgspec.Struct, frozen=True):
    """One command of the example."""

    applications: tuple[str, ...]
    server: str
    verb: str
    story: str

    @property
    def command(self) -> str:
        """What a person would type beside the shipped files."""
        if self.verb == "derive":
            return f"derive {self.applications[0]}"
        files = " ".join(f"{name}.needs.toml" for name in self.applications)
        return f"{self.verb} {files} --server {self.server}.survey.json"


SCENES: Final = (
    Scene(
        ("nightlog",), "altair", "check", "The observers' log runs on altair since last winter. Is everything there?"
    ),
    Scene(
        ("nightlog",),
        "vega",
        "check",
        "It shall move to vega, where somebody has begun with PHP. What is missing?",
    ),
    Scene(("nightlog",), "vega", "plan", "And what has to be done about it?"),
    Scene(
        ("platevault",),
        "",
        "derive",
        "Nobody wrote down what the vault of photo plates needs. What do its own files say?",
    ),
    Scene(
        ("platevault",),
        "deneb",
        "check",
        "The vault stands on deneb already, and its observers complain that large plates do not get through. Why?",
    ),
    Scene(
        ("nightlog", "platevault", "domekeeper"),
        "deneb",
        "plan",
        "Later, all three applications shall share deneb, whose repositories offer two branches of PHP.",
    ),
)
