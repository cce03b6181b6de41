"""What an application needs, found in its own tree: its manifest, its source, its settings files.

The tree is only read; nothing of it is executed.  ``derive`` goes from a directory to ``Findings`` with evidence, and
``written`` from there to a needs file.
"""
