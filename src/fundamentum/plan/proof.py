"""What the real server is asked once a plan has been carried out: every promise, where a visitor would meet it."""

from collections.abc import Iterable, Iterator

from msgspec.structs import replace

from fundamentum.catalog.setting_line import ini_text
from fundamentum.effective.file_access import user_of
from fundamentum.effective.judged_sites import sites_of
from fundamentum.kinds import kind_of
from fundamentum.kinds.base import Context
from fundamentum.model.findings import Judgement
from fundamentum.model.promises import Promise, Proof
from fundamentum.model.survey import Site, Survey
from fundamentum.platforms import platform
from fundamentum.platforms.offers import Offers

SENT = {"request": "PHP_VALUE", "request-admin": "PHP_ADMIN_VALUE"}


def proofs(judgements: Iterable[Judgement], world: Survey, offers: Offers) -> Iterator[Proof]:
    """What to ask, for each application and each way in which it is run, on the server as it is afterwards."""
    for judgement in judgements:
        for judged in (judgement, judgement.command_line):
            promises = tuple(_promises(judged, world, offers)) if judged else ()
            if judged and promises:
                yield _proof(judged, world, promises)


def _promises(judgement: Judgement, world: Survey, offers: Offers) -> Iterator[Promise]:
    context = Context(judgement.needs, world, judgement.target, offers)
    for finding in judgement.findings:
        if finding.verdict == "met":
            yield from kind_of(finding.need).promised(finding, context)


def _proof(judgement: Judgement, world: Survey, promises: tuple[Promise, ...]) -> Proof:
    target = judgement.target
    runtime = target.runtime
    user, group = user_of(world, target) or "", runtime.group or ""
    proof = Proof(judgement.needs.name, runtime.label, user=user, group=group, promises=promises)
    if runtime.sapi == "cli":
        application = f"{judgement.needs.name}, on the command line"
        program = runtime.program or platform(world.system.family).program(runtime.branch)  # or where it will be
        return replace(proof, application=application, program=program, user="", group="")
    site = next(iter(sites_of(world, target)), None)
    listen = _address(runtime.listen or "") if runtime.sapi == "fpm" and not runtime.chroot else ""
    if site is None:
        return replace(proof, listen=listen)
    handed = not target.beside  # a pool that a person hands the site to afterwards is asked itself
    port = site.way[0].local_port if handed and not site.part else None
    root = site.root if site.root and site.root.startswith("/") else ""
    return replace(
        proof, host=site.name, port=port, listen=listen, sent=tuple(_sent(site)) if handed else (), root=root
    )


def _address(listen: str) -> str:
    """A socket's path, or HOST:PORT of this machine; empty for another machine's."""
    host, _, port = listen.rpartition(":")
    if listen.startswith("/"):
        return listen
    here = host in ("", "*", "0.0.0.0", "127.0.0.1", "localhost", "[::]", "[::1]")
    return f"127.0.0.1:{port}" if here and port.isdecimal() else ""


def _sent(site: Site) -> Iterator[tuple[str, str]]:
    for kind, variable in SENT.items():
        values = [assignment for layer in site.layers if layer.kind == kind for assignment in layer.values]
        yield from ((variable, f"{value.name}={ini_text(value.value or '') or ''}") for value in values)
