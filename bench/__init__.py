"""Speed, always as a ratio against a reference in the same run. `make bench` runs all of it."""
