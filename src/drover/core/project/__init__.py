"""The project file: one SQLite file that any SQLite tool can query."""
