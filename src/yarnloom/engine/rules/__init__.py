"""The rules that need no rows.

Owns states and transitions, retries, fair turns, limits of pools, the run clock. May import the
commands only, and has no side effects: each is tested with plain values. A new rule about when or
how often something may happen goes here, a file a subject.
"""
