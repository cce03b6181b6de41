"""Install a package, or put its files back."""

from collections.abc import Iterator
from typing import Any, Self

from msgspec.structs import replace

from fundamentum.catalog import api_number, extension_files
from fundamentum.changes.base import Change, Place
from fundamentum.changes.extension_loading import in_branch, loading
from fundamentum.changes.primitives import InstallPackages, Primitive
from fundamentum.effective.fresh_runtime import fresh_runtime
from fundamentum.model.packages import Installed, Offer
from fundamentum.model.php import Branch, Module, Runtime
from fundamentum.model.survey import Survey
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers
from fundamentum.webservers import names, webserver


class Install(Change, frozen=True):
    """Install a package."""

    FILLS = "packages"
    FIRST = True
    package: str
    again: bool = False
    """Whether it is installed already, but its files are not what they should be."""
    of_php: bool = True
    """Whether PHP has to be restarted for it."""

    @property
    def key(self) -> str:
        return f"install:{self.package}"

    @property
    def about(self) -> str:
        return self.package

    def words(self, offers: Offers) -> str:
        offer = offers.package(self.package)
        return f"install {self.package}{' again' if self.again else ''}" + (f" ({offer.source})" if offer else "")

    def joined(self, other: Self) -> Self:
        return replace(self, again=self.again and other.again, of_php=self.of_php or other.of_php)

    def concerns(self, runtime: Runtime) -> bool:
        return self.of_php

    def lowered(self, place: Place) -> Iterator[Primitive]:
        name = (self.package,)
        yield InstallPackages((), name) if self.again else InstallPackages(name)

    def row(self) -> dict[str, Any]:
        return {"install": self.package}

    def applied(self, survey: Survey, offers: Offers) -> Survey:
        offer = offers.package(self.package)
        if offer is None:
            return survey
        others = tuple(package for package in survey.installed or () if package.name != self.package)
        installed = Installed(self.package, offer.version, offer.provides)
        survey = _with_commands(replace(survey, installed=(*others, installed)), self.package)
        survey = _with_web_server(self.package, survey)
        branch = offers.branch_of(offer) or offers.platform.branch_of(self.package)
        if branch is None:
            return survey
        survey = _with_runtimes(self.package, branch, survey, offers)
        for extension in sorted(offers.extensions_in(offer)):
            survey = _with_module(survey, branch, extension, offer, offers.collection_of(offer))
        return survey


def _with_commands(survey: Survey, package: str) -> Survey:
    """The commands that a package brings are there once it is installed."""
    commands = tuple(
        replace(command, path=f"/usr/bin/{command.name}", package=package)
        if package in command.offered and (command.path is None or command.package == package)
        else command
        for command in survey.commands
    )
    return replace(survey, commands=commands) if commands != survey.commands else survey


def _with_web_server(package: str, survey: Survey) -> Survey:
    """The web server that a package brings, as it is once it is installed; one that is there stays as it is."""
    name = next((name for name in names() if webserver(name).package == package), None)
    if name is None or survey.web_servers is None or any(server.server == name for server in survey.web_servers):
        return survey
    return replace(survey, web_servers=(*survey.web_servers, webserver(name).fresh(name)))


def _with_runtimes(package: str, branch: str, survey: Survey, offers: Offers) -> Survey:
    """The way of running PHP that a package brings; sites that are handed to where it waits are served by it."""
    for sapi, pattern in offers.platform.sapi_packages.items():
        there = any(runtime.branch == branch and runtime.sapi == sapi for runtime in survey.runtimes)
        if package != pattern.format(branch=branch) or there:
            continue
        fresh = fresh_runtime(survey, branch, sapi)
        present = next((known for known in survey.branches if known.branch == branch), None)
        for module in present.modules if present else ():
            fresh = loading(fresh, module.name) if not module.misfit else fresh
        sites = tuple(
            replace(site, runtime=fresh.label)
            if site.runtime is None and fresh.listen and site.handler.removeprefix("unix:") == fresh.listen
            else site
            for site in survey.sites
        )
        survey = replace(survey, runtimes=(*survey.runtimes, fresh), sites=sites)
    return survey


def _with_module(survey: Survey, branch: str, extension: str, offer: Offer, collection: str) -> Survey:
    """The file of an extension, loaded wherever packages switch their extensions on."""
    known = extension_files(branch).get(extension)
    api = api_number(branch) or ""
    of = platform(survey.system.family)
    same = (b for b in survey.branches if b.branch == branch and b.home.rpartition("/")[2] == collection)
    present = next(same, Branch(branch, api, of.extension_dir(api)))
    home = present.home
    module = Module(
        extension,
        known.shown if known else extension,
        f"{present.extension_dir}/{extension}.so",
        known.zend if known else False,
        offer.name,
        of.switch_file(branch, extension),
    )
    branches = {(branch.branch, branch.home): branch for branch in survey.branches}
    branches[branch, home] = replace(
        present, modules=(*(module for module in present.modules if module.name != extension), module)
    )
    survey = replace(survey, branches=tuple(branches.values()))
    return in_branch(survey, branch, lambda r: loading(r, extension) if r.home == home and r.packaged else r)
