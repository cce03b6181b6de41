"""What an earlier plan put into a file is not lost when a later one writes to it."""

from pathlib import Path

from fundamentum.changes.base import Place
from fundamentum.changes.file_operations import Line, WriteFile
from fundamentum.changes.steps import steps
from fundamentum.changes.task import ScheduleTask
from fundamentum.changes.web_limit import LimitForAll
from fundamentum.model.origin import Origin
from fundamentum.model.surrounding_facts import Limit
from fundamentum.model.survey import Site, Survey
from fundamentum.model.system import System
from fundamentum.plan.planner import plan
from fundamentum.platforms import platform
from tests.around import around_root, look, needs
from tests.small_root import TODAY

FILE = "/etc/apache2/conf-enabled/zz-nightlog.conf"


def test_a_limit_for_all_sites_keeps_the_others_of_its_file() -> None:
    limits = (
        Limit("LimitRequestBody", "9000", Origin(FILE, 2)),
        Limit("Timeout", "60", Origin(FILE, 3)),
        Limit("ProxyTimeout", "5"),
    )
    site = Site("a", "apache2", Origin("/etc/apache2/apache2.conf", 1), limits=limits)
    place = Place(Survey(4, "x", System(family="debian"), sites=(site,)), platform("debian"), "nightlog")
    change = LimitForAll("Timeout", "60", "300", "apache2", "a", FILE, 300)
    (step,) = steps([change], place)
    assert isinstance(step.operation, WriteFile)
    assert step.operation.content.splitlines()[1:] == ["Timeout 300", "LimitRequestBody 9000"]
    assert step.operation.undone(platform("debian")) == [], "to remove it would lose what was there"
    assert WriteFile("/etc/x", "#", (Line("a"),)).undone(platform("debian")) == ["rm /etc/x"]


def test_a_second_task_gets_a_file_of_its_own_where_another_plan_made_the_first(tmp_path: Path) -> None:
    tables = '[tasks.required]\n"bin/one.php" = "every 15m"\n"bin/two.php" = "every 15m"\n'
    root = around_root(tmp_path, extra={f"srv/nightlog/bin/{name}.php": "<?php\n" for name in ("one", "two")})
    both = plan([needs(tables)], look(root, needs(tables)), today=TODAY).of(ScheduleTask)
    assert len(both) == 2 and {change.file for change in both} == {"/etc/cron.d/nightlog"}
    (tmp_path / "etc/cron.d").mkdir(parents=True, exist_ok=True)
    (tmp_path / "etc/cron.d/nightlog").write_text(both[0].line + "\n")
    (later,) = plan([needs(tables)], look(root, needs(tables)), today=TODAY).of(ScheduleTask)
    assert (later.command, later.file) == (both[1].command, "/etc/cron.d/nightlog-2")
