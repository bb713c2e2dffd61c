"""Processes beside the service: checks, long lists, uploads, the worker of `serve`."""
