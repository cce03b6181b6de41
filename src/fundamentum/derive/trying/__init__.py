"""A program's own checks tried out: its code is followed on a server that lacks nothing, and on others that do."""
