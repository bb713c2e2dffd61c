"""The use cases, a file each, named as people name them.

Owns start, cancel, pause, mend, publish, worker sessions, reports, what is due. May import
everything else in the engine but `engine`, `rebuild` and `transaction`. A new use case is a
command in `commands`, a file here, and a line in `transaction`.
"""
