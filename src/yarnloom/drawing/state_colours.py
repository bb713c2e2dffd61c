"""One dye and one icon a state; the console uses the same."""

DYES = {
    "waiting": ("#a39a8a", "○"),
    "scheduled": ("#a39a8a", "◷"),
    "ready": ("#c9a24b", "◔"),
    "queued": ("#c9a24b", "◔"),
    "running": ("#4a6fd0", "●"),
    "pausing": ("#9b7fc4", "◫"),
    "paused": ("#9b7fc4", "‖"),
    "backing_off": ("#d6b22c", "↻"),
    "resting": ("#8fa6b8", "☾"),
    "cancelling": ("#96694a", "◌"),
    "done": ("#2f8f8a", "✓"),
    "failed": ("#c2413b", "✗"),
    "cancelled": ("#96694a", "⊘"),
    "skipped": ("#8a8a86", "»"),
}
