"""What parts of a plan read, consist of and give.

Owns references, inputs, items, outputs, their rows, and what runs again after a mend. May import
dispatch and what is before it. A new source of inputs goes into `inputs`, and so does a
new thing to prepare before a step.
"""
