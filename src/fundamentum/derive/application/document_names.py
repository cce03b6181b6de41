"""How documents beside an application's code are called."""

import re
from typing import Final

DOCUMENT: Final = re.compile(
    r"(?:\d{1,2}[-_. ]+)?"
    r"(?:readme|liesmich|lisezmoi|leeme|leggimi|install(?:ation|ing)?|requirements?|getting[-_ ]?started|setup|"
    r"prerequisites?|config(?:uration|uring)?|deploy(?:ment|ing)?|hosting|server|system|quick[-_ ]?start|admin\w*|"
    r"operat(?:ion|ing|or)\w*|maintenance|(?:background|schedul\w*)[-_ ]?(?:jobs?|tasks?)|production)[\w.-]*|"
    r"(?:[\w-]+[._-])?cron(?:tab|job)?s?",
    re.I,
)
"""How documents are called that may tell what an application requires, and samples for cron."""
