"""Runs for the routes: reading, starting, waiting, events, log lines."""
