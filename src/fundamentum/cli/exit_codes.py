"""Exit codes of the program, beside those of its commands (0: all is well, 1: something is not)."""

USAGE_ERROR = 2
"""The command line, or a file that it names, cannot be used."""
FAILURE = 3
"""The program itself failed."""
INTERRUPTED = 130
"""As a shell has it for a program that a keyboard interrupt ended: 128 and the signal's number."""
