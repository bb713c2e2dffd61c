"""Lines that attempts print: a file of compressed chunks."""
