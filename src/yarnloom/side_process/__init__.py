"""Jobs that would hold up the service, done in processes of their own.

Owns checking values, long lists. May import protocol, engine values, store and tabular. A new job
is a class in `list_jobs` or `check_values`; the service starts it from `list_job_processes` or
`check_processes`.
"""
