"""YAML of others, within bounds: plain values alone, and no document grows in memory."""

from typing import Final

import yaml

MAX_DEPTH: Final = 20
MAX_EVENTS: Final = 200_000


def document(text: bytes) -> object:
    """What a YAML document holds; None if it is none, or has aliases, which can grow without end."""
    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    depth = 0
    try:
        for count, event in enumerate(yaml.parse(text, Loader=loader)):
            depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
            if isinstance(event, yaml.AliasEvent) or depth > MAX_DEPTH or count > MAX_EVENTS:
                return None
        loaded: object = yaml.load(text, Loader=loader)
    except (yaml.YAMLError, ValueError, RecursionError, ArithmeticError, TypeError, AttributeError):
        return None
    return loaded
