"""Real processes in trouble: killed, frozen, cut off, and their records put back.

`make chaos SECONDS=1200` runs it. What tasks did stands in a log beside the service, written by the
tasks themselves, so that what the service says can be compared with what happened.
"""
