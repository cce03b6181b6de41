"""``python -m fundamentum``."""

from fundamentum.cli.main import program

if __name__ == "__main__":
    program()
