"""The example that ships with the program: a small volunteer observatory and its servers."""

from typing import Final

import msgspec


class Scene(msgspec.Struct, frozen=True):
    """One command of the example."""

    applications: tuple[str, ...]
    server: str
    verb: str
    story: str
    site: str = ""
    """The name of a web site that is to be set up."""
    directory: str = ""
    """Where the application will stand then."""

    @property
    def command(self) -> str:
        """What a person would type beside the shipped files."""
        if self.verb == "derive":
            return f"derive {self.applications[0]}"
        files = " ".join(f"{name}.needs.toml" for name in self.applications)
        where = f" --site {self.site} --directory {self.directory}" if self.site else ""
        return f"{self.verb} {files} --server {self.server}.survey.json{where}"


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
    Scene(
        ("nightlog",),
        "mizar",
        "plan",
        "A friend's observatory wants the log too. Its server, mizar, is new: there is nothing on it.",
        "nightlog.observatory.example",
        "/srv/nightlog",
    ),
)
