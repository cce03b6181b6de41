"""Take packages away that cannot stay beside what is installed, which a person decides."""

from collections.abc import Iterator

from fundamentum.changes.base import Change, Place
from fundamentum.changes.primitives import Primitive, TakeAway
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import packages as web_server_packages


class LetGo(Change, frozen=True):
    """Take packages away, as the package manager would to make room for others."""

    packages: tuple[str, ...]

    @property
    def key(self) -> str:
        return "remove"

    @property
    def about(self) -> str:
        return ", ".join(self.packages)

    def words(self, offers: Offers) -> str:
        return f"decide: let {self.about} go"

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        return survey  # with what takes their place

    def lowered(self, place: Place) -> Iterator[Primitive]:
        yield TakeAway(self.packages)

    def consequence(self, place: Place) -> str:
        serving = list(_serving(set(self.packages), place.survey))
        uses = f"; {'; '.join(serving)}" if serving else "; nothing that is looked at here is served by them"
        return f"the package manager takes them away to make room for the others{uses}"


def _serving(packages: set[str], survey: Survey) -> Iterator[str]:
    """What is served by packages, in words."""
    of = platform(survey.system.family)
    for runtime in survey.runtimes:
        name = of.package_of(runtime.sapi, runtime.branch)
        sites = sorted({site.name for site in survey.sites if site.runtime == runtime.label})
        if name in packages:
            yield f"{name} runs {runtime.label}" + (f" for {', '.join(sites)}" if sites else "")
    for name in sorted(packages & set(web_server_packages())):
        yield f"{name} is a web server"
