"""JSON and English of what the engine's queries return.

Owns the sentences that people read. May import the engine's queries and nothing of the service. A
new reason of `why` gets its sentence in `reasons`, a new piece of a run's line in `run_line`.
"""
