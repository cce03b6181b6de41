"""From findings to an ordered, reasoned list of changes."""
