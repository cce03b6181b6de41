"""Requirements in prose: an installer's complaints, a page of requirements, a list, as text, Markdown or HTML.

A text becomes lines (:mod:`~fundamentum.prose.lines`); each line is held against the readers in ``readers``, one file
for each kind of statement, found by its name; what they understand becomes a needs file with the sentences as its notes
(:mod:`~fundamentum.prose.requirements`), and what none of them understands is listed.
"""
