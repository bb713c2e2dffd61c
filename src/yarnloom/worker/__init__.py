"""The worker: asks a service for attempts, runs them in processes, and reports.

`worker` is the worker itself, `child` a process of it; neither is imported here, so that a
process of a worker loads only what it needs.
"""
