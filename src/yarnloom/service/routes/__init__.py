"""The routes, one module a noun. A handler parses, makes one call, and answers."""
