"""Text from servers and applications is untrusted: nothing in it may steer a terminal or end a comment."""


def clean(text: str) -> str:
    """One line of printable characters: control characters become visible escapes."""
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() else f"\\x{ord(c):02x}" if ord(c) < 256 else f"\\u{ord(c):04x}" for c in text)
