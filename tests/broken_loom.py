"""A module that cannot be imported."""

loom = 1 / 0
