"""What a worker and its processes say to each other, and how.

Owns frames, tickets, held messages, printed lines. May import nothing of the worker. A new kind of
message needs no change here: frames carry any JSON object.
"""
