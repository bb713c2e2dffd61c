"""Records of runs, and queries about them: steps, items, pauses, schedules, counters."""
