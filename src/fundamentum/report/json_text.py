"""Documents as the text of a JSON file."""

import msgspec


def as_json(document: msgspec.Struct) -> str:
    """The document, indented, with a newline at its end."""
    return msgspec.json.format(msgspec.json.encode(document), indent=2).decode("utf-8") + "\n"
