"""Records of runs, and what is read of them: steps, items, pauses, schedules, counters."""
