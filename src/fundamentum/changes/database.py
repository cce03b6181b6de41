"""Make a database, and the user who has it, on the server's own database server."""

from collections.abc import Iterator
from typing import Any

from msgspec.structs import replace

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive
from fundamentum.changes.server_operations import MakeDatabase
from fundamentum.model.safe_text import PlainName
from fundamentum.model.surrounding_facts import Answer
from fundamentum.model.survey import Survey
from fundamentum.platforms.offers import Offers


class PrepareDatabase(Change, frozen=True):
    """Have a database and a user of the same name, who has all rights on it and on nothing else."""

    FILLS = "databases"
    product: PlainName
    name: str
    character_set: str
    """Empty: as the server has it."""
    application: str
    given: str = ""
    """The file on the server that holds the password; empty: one is made, and put into :attr:`password_file`."""

    @property
    def answer(self) -> str:
        """How a survey's answers tell that it is there."""
        return f"database:{self.product}/{self.name}"

    @property
    def password_file(self) -> str:
        """The file that holds the user's password on the server."""
        return self.given or f"/root/{self.name}.database-password"

    @property
    def key(self) -> str:
        return self.answer

    @property
    def about(self) -> str:
        return self.name

    @property
    def effect(self) -> str:
        made = "is read from" if self.given else "is made, and put into"
        return f"the database and its user {self.name}@localhost, whose password {made} {self.password_file}"

    @property
    def statements(self) -> list[str]:
        """What makes both, in the words of the database server; of the password they tell where it is."""
        return self._operation().statements()

    def _operation(self) -> MakeDatabase:
        """Source: PostgreSQL's documentation, "Character Set Support": what others call utf8mb4 is UTF8 there."""
        unicode = self.product == "postgresql" and self.character_set.lower().startswith("utf8")
        encoding = "UTF8" if unicode else self.character_set
        return MakeDatabase(self.name, self.product, encoding, self.password_file, bool(self.given), self.application)

    def words(self, offers: Offers) -> str:
        return " ".join(self.statements)

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return replace(survey, answers={**survey.answers, self.answer: Answer(True)})

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield self._operation()

    def row(self) -> dict[str, Any]:
        return {"name": self.name, "product": self.product, "user": self.name, "password_file": self.password_file}
