"""Who may do what: callers and their roles, tokens, sessions, and the roles of every route."""
