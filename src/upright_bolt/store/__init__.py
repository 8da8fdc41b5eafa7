"""Where runs are kept: one SQLite database, and what goes out of it."""
