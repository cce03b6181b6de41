"""No system at all, but what an information page tells of one."""

from fundamentum.platforms.base import Platform


class Page(Platform):
    """An information page."""

    shows_a_visit = True
    unseen = "the page does not tell whether its file is there: survey the server itself"


PLATFORM = Page()
