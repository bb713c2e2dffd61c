"""The way of every request: limits, access, strict bodies, problems, the description."""
