"""`python -m yarnloom` is the command `yarnloom`."""

from yarnloom.cli import entry

if __name__ == "__main__":
    entry()
