"""What routes need of runs: reading, starting, waiting, events, log lines."""
