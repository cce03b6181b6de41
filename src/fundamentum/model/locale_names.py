"""Names of locales: ``de_DE.UTF-8`` and ``de_DE.utf8`` are the same."""


def spelled_alike(name: str) -> str:
    """A name in the spelling in which those of one locale are equal.  Source: ``_nl_normalize_codeset`` in glibc."""
    language, dot, rest = name.partition(".")
    characters, at, variant = rest.partition("@")
    return f"{language}{dot}{characters.replace('-', '').lower()}{at}{variant}".lower()
