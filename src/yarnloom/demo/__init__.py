"""The tide almanac: a made-up tide office, its stand-ins, and its loom."""
