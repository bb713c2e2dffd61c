"""What runs inside a process of a worker.

Owns loading looms, calling tasks, one attempt at a time or many at once. May import the channel,
and of the outside only the sdk. A new field of a work message is read in `one_at_a_time` or
`many_at_once`; what a task sees of it is in the sdk.
"""
