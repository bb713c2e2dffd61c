"""The worker: asks a service for attempts, runs them in processes, and reports."""

from yarnloom.worker.worker import Worker, WorkerOptions, cores, run_worker

__all__ = ["Worker", "WorkerOptions", "cores", "run_worker"]
